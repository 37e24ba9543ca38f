import type { RuleTold } from "../api/client";
import type { Mark } from "../model/verdicts";
import { VerdictMark } from "../parts/VerdictMark";

export type Outcome = RuleTold["outcome"];

/** How a rule fares in words, the gravest first, and the shape that says it. */
export const OUTCOMES: Readonly<Record<Outcome, [string, Mark]>> = {
  broken: ["broken", "exposed"],
  unknown: ["nobody can know", "unproven"],
  nobody: ["speaks of nobody", "idle"],
  holds: ["holds", "home"],
};

/** How a rule fares: shape, colour and word. */
export function OutcomeMark({ outcome }: { outcome: Outcome }) {
  const [word, mark] = OUTCOMES[outcome];
  return (
    <span className="rule-outcome" data-outcome={outcome}>
      <VerdictMark mark={mark} size={11} />
      {word}
    </span>
  );
}
