import type { Finding, Move, Tally, Verdict } from "../api/client";

/** Verdicts as the column lists them, worst last, and idle beside them. */
export const VERDICTS: readonly Verdict[] = ["home", "unproven", "wavering", "stranded", "astray", "exposed"];
export type Mark = Finding["verdict"] | "idle";
export const MARKS: readonly Mark[] = ["home", "wavering", "stranded", "astray", "exposed", "unproven", "idle"];

export function gravity(verdict: Mark | null): number {
  return verdict ? (VERDICTS as readonly Mark[]).indexOf(verdict) : -1;
}

/** "2 wavering → home, 1 home → stranded": what an edit moves, in words. */
export function sayMoves(tally: readonly Tally[]): string {
  return tally.map((t) => `${t.count} ${t.before ?? "new"} → ${t.after ?? "gone"}`).join(", ") || "no verdict changes";
}

export function isWorse(move: Move): boolean {
  return move.after !== null && gravity(move.after) > gravity(move.before ?? "home");
}
