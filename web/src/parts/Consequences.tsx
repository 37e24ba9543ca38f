import { usePlan } from "../api/plan";
import type { PreviewResult } from "../api/client";
import { isWorse, sayMoves } from "../model/verdicts";

const NAMED = 4;

/** What an edit brings about: who moves, what new risks it has, who has to be shut down for it, who is worse off. */
export function Consequences({ of }: { of: Pick<PreviewResult, "moves" | "tally" | "risks" | "shut_down"> }) {
  const { nameOf } = usePlan();
  const worse = of.moves.filter(isWorse);
  return (
    <>
      {sayMoves(of.tally)}
      {of.risks === null && (
        <span className="then" role="status">
          what else it would bring is still being looked for…
        </span>
      )}
      {!!of.risks?.length && <span className="then">then: {of.risks.join("; ")}</span>}
      {of.shut_down.length > 0 && (
        <span className="then">
          {of.shut_down.join(", ")}: to be shut down for it, as an adapter isn’t to be plugged while the guest runs
        </span>
      )}
      {worse.length > 0 && (
        <span className="then">
          worse off:{" "}
          {worse
            .slice(0, NAMED)
            .map((m) => m.name ?? nameOf(m.endpoint))
            .join(", ")}
          {worse.length > NAMED ? ` and ${worse.length - NAMED} more` : ""}
        </span>
      )}
    </>
  );
}
