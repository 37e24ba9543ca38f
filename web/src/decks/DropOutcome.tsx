import type { PreviewResult, Verdict } from "../api/client";
import { gravity } from "../model/verdicts";
import { VerdictMark } from "../parts/VerdictMark";
import { outcome } from "./edits";
import type { Rect } from "./layout";

/** What would become of what is dragged, said on a place where it could be dropped. */
export function DropOutcome({
  rect,
  result,
  endpoints,
  waiting,
}: {
  rect: Rect;
  result: PreviewResult | undefined;
  /** What is dragged with how it fares now, of which the worst is told; none: how others would fare. */
  endpoints: readonly (readonly [string, Verdict])[];
  /** What stands there until it is known. */
  waiting: string;
}) {
  const become = endpoints.map(([id, now]) => outcome(result, id, now));
  const becomes = become.includes(null) ? null : become.sort((a, b) => gravity(b!) - gravity(a!))[0];
  const worse = result?.moves.filter((m) => m.after !== "home").length ?? 0;
  const better = result?.moves.filter((m) => m.after === "home").length ?? 0;
  return (
    <div
      className="slot-outcome"
      style={
        endpoints.length
          ? { left: rect.x + rect.w - 80, top: rect.y + 3, width: 77, height: rect.h - 6 }
          : { left: rect.x + 2, top: rect.y + rect.h - 19, width: rect.w - 4 }
      }
    >
      {!result ? (
        waiting
      ) : endpoints.length ? (
        becomes ? (
          <>
            <VerdictMark mark={becomes} size={9} /> {becomes}
          </>
        ) : (
          "not possible"
        )
      ) : (
        `${better} home, ${worse} not`
      )}
    </div>
  );
}
