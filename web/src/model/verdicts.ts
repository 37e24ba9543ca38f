import type { Move, Verdict } from "../api/client";

/** Verdicts as the column lists them, worst last, and idle beside them. */
export const VERDICTS: readonly Verdict[] = ["home", "unproven", "wavering", "stranded", "astray", "exposed"];
export type Mark = Verdict | "idle";
export const MARKS: readonly Mark[] = ["home", "wavering", "stranded", "astray", "exposed", "unproven", "idle"];

export function gravity(verdict: Verdict | null): number {
  return verdict ? VERDICTS.indexOf(verdict) : -1;
}

/** "2 wavering → home, 1 home → stranded": what an edit moves, in words. */
export function sayMoves(moves: readonly Move[]): string {
  const counts = new Map<string, number>();
  for (const move of moves) {
    const said = `${move.before ?? "new"} → ${move.after ?? "gone"}`;
    counts.set(said, (counts.get(said) ?? 0) + 1);
  }
  return [...counts].map(([said, n]) => `${n} ${said}`).join(", ") || "nobody moves";
}

export function isWorse(move: Move): boolean {
  return move.after !== null && gravity(move.after) > gravity(move.before ?? "home");
}
