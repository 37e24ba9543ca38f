import type { Trace } from "../api/client";

/** A trace in a narrow column: each hop with its tag before and after, the rule, and the reason where it ends. */
export function HopList({ trace }: { trace: Trace }) {
  return (
    <ol className="hops" aria-label={`Hops ${trace.state}`}>
      {trace.hops.map((hop, n) => (
        <li key={n} className={hop.outcome === "passed" ? "" : `hop-${hop.outcome.replace(" ", "-")}`}>
          <span className="hop-where">{hop.where}</span>
          {/* A risk's places have no frame that comes in and goes out, but what is set there and what is wrong. */}
          <span className="hop-tags mono">
            {hop.outcome === "not reached"
              ? "not reached"
              : hop.before || hop.after
                ? `${hop.before} → ${hop.after}`
                : ""}
          </span>
          <span className="hop-rule">
            {hop.before || hop.after ? hop.reason || hop.rule : [hop.rule, hop.reason].filter(Boolean).join(": ")}
          </span>
        </li>
      ))}
    </ol>
  );
}
