import type { Trace } from "../api/client";

/** A trace in a narrow column: each hop with its tag before and after, the rule, and the reason where it ends. */
export function HopList({ trace }: { trace: Trace }) {
  return (
    <ol className="hops" aria-label={`Hops ${trace.state}`}>
      {trace.hops.map((hop, n) => (
        <li key={n} className={hop.outcome === "passed" ? "" : `hop-${hop.outcome.replace(" ", "-")}`}>
          <span className="hop-where">{hop.where}</span>
          <span className="hop-tags mono">{hop.outcome === "not reached" ? "not reached" : `${hop.before} → ${hop.after}`}</span>
          <span className="hop-rule">{hop.reason || hop.rule}</span>
        </li>
      ))}
    </ol>
  );
}
