import type { Load, LoadWidth } from "../api/client";

export type Direction = Load["directions"][number];

/** From which share of what it carries on a cable is told as nearly full. */
const NEAR = 0.8;

/** Mbit/s as people say them. */
export function mbits(value: number): string {
  if (value >= 10_000) return `${(value / 1000).toLocaleString("en", { maximumFractionDigits: 1 })} Gbit/s`;
  return `${value.toLocaleString("en", { maximumFractionDigits: value < 10 ? 1 : 0 })} Mbit/s`;
}

/** How full something is, in percent; what it carries isn't known: nothing. */
export const percent = (value: number, speed: number | null): string =>
  speed ? `${Math.round((value / speed) * 100).toLocaleString("en")} %` : "";

/** In which colour something so full is drawn. */
export function toneOf(value: number, speed: number | null): string {
  if (!speed) return "var(--v-unproven)";
  const full = value / speed;
  return full > 1 ? "var(--v-exposed)" : full > NEAR ? "var(--v-wavering)" : "var(--copper)";
}

/** How wide a cable is drawn: as it is, and the more the fuller. */
export function widthOf(direction: LoadWidth): number {
  return direction.speed ? 2 + 8 * Math.min(1.25, direction.asked / direction.speed) : 4;
}

/** How full cables are, by the ports at their ends. */
export const byPort = (widths: readonly LoadWidth[]): Map<string, LoadWidth> =>
  new Map(widths.flatMap((width) => width.ends.map((end) => [end, width] as const)));
