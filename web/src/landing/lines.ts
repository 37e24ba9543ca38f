import { matcher, readQuery } from "../model/query";
import { compareNames, type Book } from "../model/records";
import { gravity, type Mark } from "../model/verdicts";
import { COLUMNS, type Row } from "./columns";

export type Grouping = "verdict" | "host" | "segment" | "none";

/** The head of a group of places, in its first column. */
export class Head {
  readonly look = "landing-group";
  count = 0;

  constructor(
    readonly head: string,
    /** The verdict that all of them have, where they are grouped by it. */
    readonly mark: Mark | undefined,
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

/** The rows that a query and chosen marks leave, in their order, each group behind its head. */
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
  const kept = rows.filter((row) => (!marks.size || marks.has(row.mark)) && asked.tag(row.endpoint, row.tag));
  const keyOf = (row: Row): string =>
    grouping === "verdict"
      ? row.mark
      : grouping === "host"
        ? row.endpoint.host
        : grouping === "segment"
          ? book.get("segment", row.tag.belongs)?.name || "belongs nowhere yet"
          : "";
  const order = (row: Row): number => (grouping === "verdict" ? (row.mark === "idle" ? 10 : 9 - gravity(row.mark)) : 0);
  kept.sort(
    (a, b) =>
      order(a) - order(b) ||
      compareNames(keyOf(a), keyOf(b)) ||
      compareNames(a.endpoint.host, b.endpoint.host) ||
      compareNames(a.endpoint.name, b.endpoint.name),
  );
  const made: (Head | Line)[] = [];
  let group: Head | undefined;
  for (const row of kept) {
    if (grouping !== "none") {
      const head = keyOf(row);
      if (group?.head !== head) {
        group = new Head(head, grouping === "verdict" ? row.mark : undefined);
        made.push(group);
      }
      group.count += 1;
    }
    made.push(new Line(row, book));
  }
  return made;
}
