import type { Piece } from "../api/client";
import { adapterIn, BAR, type Column, type Layout } from "./layout";

export interface Stroke {
  points: [number, number][];
  state: Piece["state"];
}
export interface Break {
  x: number;
  y: number;
  /** The record at which the strand breaks. */
  at: string;
  reason: string;
  kind: "dropped" | "open" | "leaks";
  /** Breaks in the fabric tell their reason beside the cable, the others in the strip under the floor. */
  fabric: boolean;
}
export interface Drawing {
  strokes: Stroke[];
  breaks: Break[];
}

type Point = [number, number];

/** What breaks nowhere. */
const WHOLE: ReadonlySet<Piece["state"]> = new Set(["carries", "reserve"]);

/** Everything that a strand passes, for stepping the rest back. */
export const passedBy = (pieces: readonly Piece[]): Set<string> =>
  new Set(pieces.flatMap((piece) => [piece.from, piece.to]));

/** The pieces of a strand: those drawn only where their host is in sight, by its column, and all others. */
export interface Sorted {
  hosts: Map<Column, Piece[]>;
  others: Piece[];
}

/** A strand's pieces by where they are drawn, so that what comes into sight doesn't cost the length of the strand. */
export function sorted(layout: Layout, pieces: readonly Piece[]): Sorted {
  const hosts = new Map<Column, Piece[]>();
  const others: Piece[] = [];
  for (const piece of pieces) {
    const column = WHOLE.has(piece.state) ? layout.columnOf.get(piece.from) : undefined;
    const own = column && hosts.get(column);
    if (own) own.push(piece);
    else if (column) hosts.set(column, [piece]);
    else others.push(piece);
  }
  return { hosts, others };
}

/**
 * The pieces of a strand as lines through the free stretches of the layout, of which those between two places from
 * the left are wanted; its breaks are told wherever they are.
 */
export function drawStrand(layout: Layout, { hosts, others }: Sorted, from: number, to: number): Drawing {
  const strokes: Stroke[] = [];
  const breaks: Break[] = [];
  const inBar = new Map<string, { x: number; state: Piece["state"] }[]>();
  const bars = (id: string, x: number, state: Piece["state"]): void => {
    const list = inBar.get(id);
    if (list) list.push({ x, state });
    else inBar.set(id, [{ x, state }]);
  };
  const trunkOf = new Map(layout.trunks.flatMap((t) => [[t.a.port, t] as const, [t.b.port, t] as const]));

  const near = [...hosts].flatMap(([column, own]) => (column.x + column.w < from || column.x > to ? [] : own));
  for (const piece of [...near, ...others]) {
    const column = layout.columnOf.get(piece.from);
    const adapter = adapterIn(column, piece.from);
    const nic = layout.nicOf.get(piece.from);
    if (adapter) adapterToSlot(column!, adapter, piece);
    else if (layout.slotOf.has(piece.from)) seatToNic(piece);
    else if (nic && piece.state === "open") {
      breaks.push({ x: nic.drop, y: nic.y + nic.h + 8, at: nic.id, reason: piece.reason, kind: "open", fabric: false });
    } else if (nic) {
      const x = nic.drop;
      strokes.push({
        points: [
          [x, nic.y + nic.h],
          [x, nic.below.y],
        ],
        state: piece.state === "dropped" ? "reserve" : piece.state,
      });
      if (piece.state === "dropped")
        breaks.push({ x, y: nic.below.y - 4, at: piece.to, reason: piece.reason, kind: "dropped", fabric: false });
    } else portOn(piece);
  }

  function adapterToSlot(column: Column, at: NonNullable<ReturnType<typeof adapterIn>>, piece: Piece): void {
    const { box, guest } = at;
    const slot = layout.slotOf.get(piece.to);
    const x = box.x + box.w / 2;
    const above = layout.decks.switches - 12;
    const own = layout.nicOf.get(piece.to);
    // Straight down where no guest stands below; else between the guests, or past them at the edge where one is as
    // wide as the column.
    const middle = column.x + column.w / 2;
    const below = column.guests.filter((other) => other.y > guest.y);
    const covered = (at: number): boolean =>
      below.some((other) => [other, ...other.adapters].some((part) => part.x <= at && at <= part.x + part.w));
    const lane = covered(middle) ? column.left : middle;
    const start: Point = [x, box.y + box.h];
    const [row, edge] = [box.y + box.h + 4, guest.x + 3];
    // Out beside the further rows of its own guest's tabs.
    const beside = row < guest.under - 7;
    const out: Point[] = beside ? [start, [x, row], [edge, row], [edge, guest.under]] : [start, [x, guest.under]];
    const down: Point[] = beside || covered(x) ? [...out, [lane, guest.under], [lane, above]] : [start, [x, above]];
    if (own) {
      strokes.push({
        points: [...down, [column.left, above], [column.left, own.over], [own.drop, own.over], [own.drop, own.y]],
        state: piece.state,
      });
      return;
    }
    if (!slot) {
      breaks.push({ x, y: box.y + box.h + 6, at: guest.id, reason: piece.reason, kind: "dropped", fabric: false });
      return;
    }
    const target = slot.x + slot.w / 2;
    const points: Point[] = [
      ...down,
      [column.left, above],
      [column.left, slot.over],
      [target, slot.over],
      [target, slot.y],
    ];
    strokes.push({ points, state: piece.state === "dropped" ? "reserve" : piece.state });
    if (piece.state === "dropped")
      breaks.push({ x: target, y: slot.y, at: piece.to, reason: piece.reason, kind: "dropped", fabric: false });
  }

  function seatToNic(piece: Piece): void {
    const slot = layout.slotOf.get(piece.from)!;
    const column = layout.columnOf.get(piece.from)!;
    const x = slot.x + slot.w / 2;
    const tunnel = layout.slotOf.get(piece.to);
    if (tunnel) {
      const t = tunnel.x + tunnel.w / 2;
      strokes.push({
        points: [
          [x, slot.y + slot.h],
          [x, slot.under],
          [column.right, slot.under],
          [column.right, tunnel.over],
          [t, tunnel.over],
          [t, tunnel.y],
        ],
        state: piece.state,
      });
      return;
    }
    const nic = layout.nicOf.get(piece.to);
    const team = layout.teamOf.get(piece.to);
    const line = nic ? nic.over : team ? team.under : layout.decks.nics;
    const end: Point[] = nic
      ? [
          [nic.drop, line],
          [nic.drop, nic.y],
        ]
      : team
        ? [[team.x + team.w, line]]
        : [];
    strokes.push({
      points: [[x, slot.y + slot.h], [x, slot.under], [column.right, slot.under], [column.right, line], ...end],
      state: piece.state === "dropped" ? "reserve" : piece.state,
    });
    if (piece.state === "dropped" && team)
      breaks.push({ x: team.x + team.w, y: line, at: piece.to, reason: piece.reason, kind: "dropped", fabric: false });
  }

  function portOn(piece: Piece): void {
    const above = layout.above.get(piece.from);
    const bar = layout.barOf.get(piece.to);
    if (above && bar) {
      const [x] = above.exit.at(-1)!;
      strokes.push({ points: [...above.exit, [x, bar.y + BAR.h / 2]], state: piece.state });
      bars(bar.id, x, piece.state);
      return;
    }
    const trunk = trunkOf.get(piece.from) ?? trunkOf.get(piece.to);
    if (!trunk) return;
    const fromBar = layout.barOf.get(piece.from);
    if (fromBar) {
      const end = trunk.a.port === piece.to ? trunk.a : trunk.b;
      if (piece.state === "dropped")
        breaks.push({ x: end.x, y: end.y, at: piece.to, reason: piece.reason, kind: "dropped", fabric: true });
      else bars(fromBar.id, end.x, piece.state);
      if (piece.state === "dropped") bars(fromBar.id, end.x, "reserve");
      return;
    }
    const end = trunk.a.port === piece.to ? trunk.a : trunk.b;
    strokes.push({ points: trunk.points, state: piece.state === "carries" ? "carries" : "reserve" });
    if (piece.state === "dropped" || piece.state === "leaks") {
      breaks.push({ x: end.x, y: end.y, at: piece.to, reason: piece.reason, kind: piece.state, fabric: true });
    }
  }

  for (const [id, points] of inBar) {
    const bar = layout.barOf.get(id)!;
    const y = bar.y + BAR.h / 2;
    const span = (list: { x: number }[]): Point[] => {
      const xs = list.map((p) => p.x);
      return [
        [Math.min(...xs), y],
        [Math.max(...xs), y],
      ];
    };
    const carrying = points.filter((p) => p.state === "carries");
    if (points.length > carrying.length) strokes.push({ points: span(points), state: "reserve" });
    if (carrying.length) strokes.push({ points: span(carrying), state: "carries" });
  }
  const once = new Map(breaks.map((b) => [`${b.at} ${b.reason}`, b]));
  return {
    strokes: strokes
      .filter(({ points }) => points.some(([x]) => x >= from) && points.some(([x]) => x <= to))
      // What carries lies above what waits.
      .sort((a, b) => Number(a.state === "carries") - Number(b.state === "carries")),
    breaks: [...once.values()],
  };
}

/** A reason without the name of the port at whose side it stands. */
export function brief(reason: string): string {
  const said = reason.includes("; ")
    ? reason.slice(reason.lastIndexOf("; ") + 2)
    : reason.replace(/^.*? of \S+ (is an |is )?/, "");
  return said.charAt(0).toUpperCase() + said.slice(1);
}

/** Reasons side by side in rows, none over another: the row of each. */
export function stackReasons(
  list: readonly { x: number; width: number }[],
  sight: { left: number; right: number },
  room: number,
): { left: number; row: number }[] {
  const rows: [number, number][][] = [];
  return list.map(({ x, width }) => {
    const edge = x > sight.left && x < sight.right ? Math.min(room, sight.right) : room;
    const left = Math.max(8, Math.min(x - 18, edge - width - 8));
    let row = rows.findIndex((taken) => taken.every(([a, b]) => left + width + 8 < a || left > b + 8));
    if (row < 0) row = rows.push([]) - 1;
    rows[row]!.push([left, left + width]);
    return { left, row };
  });
}
