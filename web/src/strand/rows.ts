import type { Endpoint, Ear, Knot } from "../api/client";
import { portName } from "../decks/edits";
import type { Reading } from "../model/over";
import { hostOf, type Book } from "../model/records";
import type { Mark } from "../model/verdicts";

/** A line of the drawn tree. */
export interface Row {
  key: string;
  depth: number;
  /** Of each depth above, whether a line runs on downwards there. */
  guides: boolean[];
  /** Whether its own line runs on to a sibling below. */
  runsOn: boolean;
  state: Knot["state"];
  /** A line of records (and whether others hang on it), a break of it, or somebody who could overhear there. */
  what:
    | { is: "knot"; knot: Knot; holds: boolean; hides: Hidden | null }
    | { is: "break"; text: string }
    | { is: "ear"; ear: Ear };
}

/** What a folded line hides. */
export interface Hidden {
  marks: Partial<Record<Mark, number>>;
  breaks: number;
  ears: number;
}

/** What a line is called by when it is folded. */
export const knotKey = (knot: Knot): string => `${knot.records.join(" ")}${knot.again ? " again" : ""}`;

/** The lines that hang on the fabric and hold a host's part of it: what is folded at first where there are many. */
export function hostKnots(knots: readonly Knot[], book: Book): string[] {
  return knots.filter((k) => book.get("nic", k.records.at(-1)) && !k.breaks.length).map(knotKey);
}

/** The lines in sight: below folded ones nothing; with `wanted` only those with a break or an ear on them or below. */
export function rowsOf(
  knots: readonly Knot[],
  beyond: readonly Ear[],
  folded: ReadonlySet<string>,
  wanted: boolean,
  marks: (id: string) => Mark | undefined,
): Row[] {
  const troubled = new Set<number>();
  if (wanted) {
    const above: number[] = [];
    knots.forEach((knot, n) => {
      above[knot.depth] = n;
      if (knot.breaks.length || knot.ears.length) for (let d = 0; d <= knot.depth; d += 1) troubled.add(above[d]!);
    });
  }
  const shown = wanted ? knots.filter((_, n) => troubled.has(n)) : knots;
  const rows: Omit<Row, "guides" | "runsOn">[] = [];
  let hiding: { depth: number; hides: Hidden } | null = null;
  shown.forEach((knot, n) => {
    if (hiding && knot.depth > hiding.depth) {
      for (const record of knot.again ? [] : knot.records) {
        const mark = marks(record);
        if (mark) hiding.hides.marks[mark] = (hiding.hides.marks[mark] ?? 0) + 1;
      }
      hiding.hides.breaks += knot.breaks.length;
      hiding.hides.ears += knot.ears.length;
      return;
    }
    hiding = null;
    const key = knotKey(knot);
    const holds = (shown[n + 1]?.depth ?? -1) > knot.depth;
    const hides = folded.has(key) && holds ? { marks: {}, breaks: 0, ears: 0 } : null;
    rows.push({ key: `${n}`, depth: knot.depth, state: knot.state, what: { is: "knot", knot, holds, hides } });
    if (hides) hiding = { depth: knot.depth, hides };
    knot.breaks.forEach((b, k) =>
      rows.push({
        key: `${n} break ${k}`,
        depth: knot.depth + 1,
        state: "dropped",
        what: { is: "break", text: b.reason },
      }),
    );
    knot.ears.forEach((ear, k) =>
      rows.push({ key: `${n} ear ${k}`, depth: knot.depth + 1, state: "leaks", what: { is: "ear", ear } }),
    );
  });
  beyond.forEach((ear, k) => rows.push({ key: `beyond ${k}`, depth: 0, state: "leaks", what: { is: "ear", ear } }));
  return withLines(rows);
}

/** From below: which lines run on past each row. */
function withLines(rows: readonly Omit<Row, "guides" | "runsOn">[]): Row[] {
  const open: boolean[] = [];
  const made: Row[] = [];
  for (const row of [...rows].reverse()) {
    made.push({
      ...row,
      guides: Array.from({ length: Math.max(0, row.depth - 1) }, (_, d) => Boolean(open[d + 1])),
      runsOn: Boolean(open[row.depth]),
    });
    open[row.depth] = true;
    open.length = row.depth + 1;
  }
  return made.reverse();
}

/** What a record of the tree is called. */
export function nameOf(book: Book, endpoints: Reading<string, Endpoint>, id: string): string {
  const host = book.get("host", hostOf(book, id))?.name ?? "";
  const nic = book.get("nic", id);
  if (nic) return `${host} ${nic.name}`;
  const group = book.get("port_group", id);
  if (group) return `${group.name} on ${host}`;
  const endpoint = endpoints.get(id);
  if (endpoint) return endpoint.name;
  const uplink = book.get("uplink", id);
  if (uplink) return `uplink ${uplink.name} of ${host}`;
  const station = book.get("station_port", id);
  if (station) return book.get("station", station.station)?.name ?? id;
  return book.get("fabric_switch", id)?.name ?? book.get("fabric_port", id)?.name ?? id;
}

/** Both ends of a cable: a NIC with its host, a port with its switch. */
export function endsOf(book: Book, { a, b }: { a: string; b: string }): [string, string] {
  const end = (id: string): string => {
    const nic = book.get("nic", id);
    return nic ? `${book.get("host", nic.host)?.name ?? ""} ${nic.name}` : portName(book, id);
  };
  return [end(a), end(b)];
}

/** A cable as people name it: both its ends. */
export function cableName(book: Book, cable: { a: string; b: string }): string {
  return endsOf(book, cable).join(" – ");
}
