import type { PreviewResult, Verdict } from "../api/client";
import { VerdictMark } from "../parts/VerdictMark";
import { outcome } from "./edits";
import type { Rect } from "./layout";

/** What would become of what is dragged, said on a place where it could be dropped. */
export function DropOutcome({
  rect,
  result,
  endpoint,
  now,
}: {
  rect: Rect;
  result: PreviewResult | undefined;
  endpoint: string | null;
  now: Verdict;
}) {
  const becomes = endpoint ? outcome(result, endpoint, now) : null;
  const worse = result?.moves.filter((m) => m.after !== "home").length ?? 0;
  const better = result?.moves.filter((m) => m.after === "home").length ?? 0;
  return (
    <div
      className="slot-outcome"
      style={
        endpoint
          ? { left: rect.x + rect.w - 76, top: rect.y + 3, width: 73, height: rect.h - 6 }
          : { left: rect.x + 2, top: rect.y + rect.h - 19, width: rect.w - 4 }
      }
    >
      {!result ? (
        "…"
      ) : endpoint ? (
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
