import { createElement, type CSSProperties } from "react";

import type { Mark } from "../model/verdicts";

/** A part of a shape: its element, where it lies in a field of 12 by 12, how wide its line is (none: it is filled). */
interface ShapePart {
  of: "circle" | "path" | "rect";
  lies: Readonly<Record<string, string | number>>;
  line?: number;
  dashes?: string;
}

const SHAPES: Readonly<Record<Mark, readonly ShapePart[]>> = {
  home: [{ of: "circle", lies: { cx: 6, cy: 6, r: 4.6 } }],
  unproven: [{ of: "circle", lies: { cx: 6, cy: 6, r: 4.4 }, line: 1.8, dashes: "2.1 1.9" }],
  wavering: [
    { of: "circle", lies: { cx: 6, cy: 6, r: 4.5 }, line: 1.6 },
    { of: "path", lies: { d: "M6 1.5a4.5 4.5 0 0 0 0 9z" } },
  ],
  stranded: [{ of: "path", lies: { d: "M6 1.2 11 10.6H1z" } }],
  astray: [{ of: "path", lies: { d: "M6 .8 11.2 6 6 11.2.8 6z" } }],
  exposed: [{ of: "rect", lies: { x: 1.6, y: 1.6, width: 8.8, height: 8.8 } }],
  risk: [{ of: "path", lies: { d: "M6 1.1 10.4 3.6v4.8L6 10.9 1.6 8.4V3.6z" }, line: 1.7 }],
  untidy: [{ of: "path", lies: { d: "M1.5 4h9M1.5 8h6" }, line: 1.8 }],
  idle: [{ of: "circle", lies: { cx: 6, cy: 6, r: 4.4 }, line: 1.6 }],
};

/** Makes an element of its name, attributes and children, as React and grids have it. */
type Make<T> = (of: string, attributes: Record<string, unknown>, children?: T[]) => T;

function shape<T>(mark: Mark, make: Make<T>): T[] {
  const color = `var(--v-${mark})`;
  return SHAPES[mark].map(({ of, lies, line, dashes }, n) => {
    const style: CSSProperties = line
      ? { fill: "none", stroke: color, strokeWidth: line, strokeDasharray: dashes ?? "none" }
      : { fill: color };
    return make(of, { key: n, ...lies, style });
  });
}

/** A verdict's shape as an image for a style, for where very many are drawn. */
export function markImage(mark: Mark, color: string): string {
  const parts = SHAPES[mark].map(({ of, lies, line, dashes }) => {
    const drawn = line
      ? { fill: "none", stroke: color, "stroke-width": line, "stroke-dasharray": dashes }
      : { fill: color };
    const said = Object.entries({ ...lies, ...drawn }).flatMap(([name, value]) => (value ? `${name}="${value}"` : []));
    return `<${of} ${said.join(" ")}/>`;
  });
  const image = `<svg xmlns="http://www.w3.org/2000/svg" viewBox="0 0 12 12">${parts.join("")}</svg>`;
  return `url("data:image/svg+xml,${encodeURIComponent(image)}")`;
}

/** A verdict's shape in its colour. The word stands beside it, or in `title` where there is no room. */
export function drawMark<T>(make: Make<T>, mark: Mark, size = 11, title?: string): T {
  const named = title ? { role: "img", "aria-label": title } : { "aria-hidden": "true" };
  const style: CSSProperties = { flex: "none", display: "block" };
  return make("svg", { width: size, height: size, viewBox: "0 0 12 12", ...named, style }, shape(mark, make));
}

export const VerdictMark = ({ mark, size = 11, title }: { mark: Mark; size?: number; title?: string }) =>
  drawMark(createElement, mark, size, title);

export const Shape = ({ mark }: { mark: Mark }) => <>{shape(mark, createElement)}</>;
