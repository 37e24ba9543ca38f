import type { Endpoint } from "../api/client";
import { matcher, readQuery } from "../model/query";
import { byName, compareNames, type Book } from "../model/records";
import { gravity, type Mark } from "../model/verdicts";
import { COLUMNS, type Row } from "./columns";

export type Grouping = "verdict" | "host" | "segment" | "none";

/** The head of a group of places, in its first column. */
export class Head {
  readonly look = "landing-group";

  constructor(
    readonly head: string,
    /** The verdict that all of them have, where they are grouped by it. */
    readonly mark: Mark | undefined,
    readonly count: number,
  ) {}

  /** What is copied out of it. */
  get verdict(): string {
    return `${this.head} ${this.count}`;
  }
}

/** A place in the grid: a column's text is made when it is asked for, as there may be 80,000 places. */
export class Line {
  constructor(
    readonly row: Row,
    readonly book: Book,
  ) {}
}
for (const { id, text } of COLUMNS)
  Object.defineProperty(Line.prototype, id, {
    get(this: Line) {
      return text(this.row, this.book) ?? "";
    },
  });

const sorted = new WeakMap<readonly Endpoint[], readonly Endpoint[]>();

/** The endpoints by host and name; those of a host are put in order once, for as long as none of them differs. */
export function inOrder(ofHost: ReadonlyMap<string, readonly Endpoint[]>): Endpoint[] {
  return byName([...ofHost], ([host]) => host).flatMap(([, found]) => {
    let known = sorted.get(found);
    if (!known) sorted.set(found, (known = byName(found, ({ name }) => name)));
    return known;
  });
}

/** The rows (by host and name) that a query and chosen marks leave, each group behind its head. */
export function grouped(
  rows: readonly Row[],
  book: Book,
  {
    query,
    off,
    marks,
    grouping,
  }: { query: string; off: readonly string[]; marks: ReadonlySet<Mark>; grouping: Grouping },
): (Head | Line)[] {
  const asked = matcher(readQuery(query), book, off);
  const keyOf = (row: Row): string =>
    grouping === "verdict"
      ? row.mark
      : grouping === "host"
        ? row.endpoint.host
        : grouping === "segment"
          ? book.get("segment", row.tag.belongs)?.name || "belongs nowhere yet"
          : "";
  const groups = new Map<string, Row[]>();
  for (const row of rows) {
    if ((marks.size && !marks.has(row.mark)) || !asked.tag(row.endpoint, row.tag)) continue;
    const key = keyOf(row);
    const group = groups.get(key);
    if (group) group.push(row);
    else groups.set(key, [row]);
  }
  const order = (mark: Mark): number => (grouping !== "verdict" ? 0 : mark === "idle" ? 10 : 9 - gravity(mark));
  const made: (Head | Line)[] = [];
  for (const [key, found] of [...groups].sort(
    ([a, [one]], [b, [two]]) => order(one!.mark) - order(two!.mark) || compareNames(a, b),
  )) {
    const mark = grouping === "verdict" ? found[0]!.mark : undefined;
    if (grouping !== "none") made.push(new Head(key, mark, found.length));
    for (const row of found) made.push(new Line(row, book));
  }
  return made;
}
