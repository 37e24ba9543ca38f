import { memo } from "react";

import { segmentStyle } from "../model/records";
import { BAR, rounded, type Layout } from "./layout";
import { bottomOf, type Viewport } from "./places";
import { brief, stackReasons, type Drawing } from "./strand";

/** How a line is drawn that waits or is dropped, and one that carries. */
const LINES = [
  { strokeWidth: 2, strokeDasharray: "5 4" },
  { strokeWidth: 3, strokeLinecap: "round" },
] as const;

const Strokes = memo(function Strokes({ strokes, color }: { strokes: Drawing["strokes"]; color: string }) {
  return strokes.map((s, n) => (
    <path key={n} d={rounded(s.points)} fill="none" stroke={color} {...LINES[Number(s.state === "carries")]} />
  ));
});

/** The followed segment's lines through the drawing, where they end, and why. */
export function StrandLines({
  layout,
  drawing,
  number,
  view,
}: {
  layout: Layout;
  drawing: Drawing;
  /** The segment's place among all, which tells its colour. */
  number: number;
  view: Viewport;
}) {
  const style = segmentStyle(number);
  const reasons = drawing.breaks.filter((b) => b.reason);
  const below = reasons.filter((b) => !b.fabric);
  const widths = below.map((b) => Math.min(330, brief(b.reason).length * 6 + 20));
  const stacked = stackReasons(
    below.map((b, n) => ({ x: b.x, width: widths[n]! })),
    { left: view.left, right: view.left + view.width },
    layout.width,
  );
  return (
    <>
      <svg className="lines" width={layout.width} height={layout.height} aria-hidden>
        <Strokes strokes={drawing.strokes} color={style.color} />
        {below.map((b, n) =>
          b.kind === "open" ? null : (
            <path
              key={n}
              d={`M${b.x} ${bottomOf(layout, b)}V${layout.reasons + stacked[n]!.row * 22}`}
              stroke="var(--v-exposed)"
              strokeWidth="1"
              strokeDasharray="2 2"
            />
          ),
        )}
        {drawing.breaks.map((b) => (
          <g key={`${b.at} ${b.reason}`} transform={`translate(${b.x} ${b.y})`}>
            <circle
              r="6.5"
              fill="var(--sheet)"
              stroke={b.kind === "open" ? "var(--v-unproven)" : "var(--v-exposed)"}
              strokeWidth="2"
              strokeDasharray={b.kind === "open" ? "3 2" : undefined}
            />
            {b.kind !== "open" && (
              <path d="M-2.6-2.6 2.6 2.6M2.6-2.6-2.6 2.6" stroke="var(--v-exposed)" strokeWidth="2" />
            )}
          </g>
        ))}
      </svg>
      {below.map((b, n) => (
        <div
          key={`${b.at} ${b.reason}`}
          className={b.kind === "open" ? "reason open" : "reason"}
          style={{ left: stacked[n]!.left, top: layout.reasons + stacked[n]!.row * 22, maxWidth: widths[n] }}
          title={b.reason}
        >
          {brief(b.reason)}
        </div>
      ))}
      {reasons
        .filter((b) => b.fabric)
        .map((b, n) => (
          <div
            key={`${b.at} ${b.reason}`}
            className="reason"
            style={{
              left: Math.max(8, Math.min(b.x - 60, layout.width - 320)),
              top: b.y + BAR.h / 2 + 4 + n * 21,
              maxWidth: 330,
            }}
            title={b.reason}
          >
            {brief(b.reason)}
          </div>
        ))}
    </>
  );
}
