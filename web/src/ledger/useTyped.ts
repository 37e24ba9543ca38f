import { useCallback, useMemo, useState } from "react";

import type { Operation } from "../api/client";
import { usePlan, type PlanState } from "../api/plan";
import { patch } from "../decks/edits";
import { fieldsOf, parsed, shown, type FieldSpec } from "../decks/fields";
import { freshId, put as putRecord } from "../decks/making";
import type { CellMark, Typed } from "../parts/SheetGrid";
import { cellOf } from "./marks";

/** A cell whose text isn't (or not yet) what the plan says. */
interface Pending {
  text: string;
  problem?: string;
  /** The plan doesn't take it: it holds up nothing else, and is tried again when something is typed in its row. */
  refused?: true;
}

export const FRESH = "new ";

/** The rows of an edit, and the cells that can't be used. */
interface Composed {
  operations: Operation[];
  cells: string[];
  wrong: Map<string, string>;
  /** The id under which each new row would be. */
  made: Map<string, string>;
}

/** What was typed into the segments' sheet, as one edit; cells that can't be used keep it, with the reason. */
export function useTyped(): {
  text: (row: string, column: string) => string | undefined;
  problem: (row: string, column: string) => CellMark | undefined;
  rows: string[];
  put: (typed: Typed[]) => void;
} {
  const { book, edit, preview } = usePlan();
  const [pending, setPending] = useState<ReadonlyMap<string, Pending>>(new Map());
  const put = useCallback(
    (typed: Typed[]) => {
      const all = new Map(pending);
      for (const { row, column, text } of typed) all.set(cellOf(row, column), { text });
      const { operations, cells, wrong, made } = compose(book, tried(all, new Set(typed.map(({ row }) => row))));
      for (const [cell, problem] of wrong) all.set(cell, { text: all.get(cell)!.text, problem });
      for (const [cell, { text }] of all) if (same(book, cell, text)) all.delete(cell);
      setPending(all);
      if (!operations.length) return;
      const drop = (now: ReadonlyMap<string, Pending>): Map<string, Pending> =>
        new Map([...now].filter(([cell, { text }]) => !cells.includes(cell) || text !== all.get(cell)?.text));
      void edit(said(book, operations, cells), operations).then(async (done) => {
        if (done) return setPending(drop);
        // Which cells it was, so that the reason stands where it was typed.
        const [refused] = await preview([operations]);
        setPending((now) => {
          const told = new Map(now);
          for (const { id, field, text } of refused?.problems ?? []) {
            const row = [...made].find(([, own]) => own === id)?.[0] ?? id;
            const cell = told.has(cellOf(row, field)) ? cellOf(row, field) : cells.find((c) => c.startsWith(`${row} `));
            if (cell && told.has(cell)) told.set(cell, { text: told.get(cell)!.text, problem: text, refused: true });
          }
          return told;
        });
      });
    },
    [book, edit, preview, pending],
  );
  return {
    text: useCallback((row, column) => pending.get(cellOf(row, column))?.text, [pending]),
    problem: useCallback(
      (row, column) => {
        const held = pending.get(cellOf(row, column));
        return held && { tone: held.problem ? "bad" : "waits", text: held.problem ?? "not in the plan yet" };
      },
      [pending],
    ),
    rows: useMemo(
      () => [...new Set([...pending.keys()].filter((cell) => cell.startsWith(FRESH)).map(rowOf))],
      [pending],
    ),
    put,
  };
}

/** What is tried when something is typed in some rows: of others nothing refused, nor a new row with such a cell. */
function tried(pending: ReadonlyMap<string, Pending>, rows: ReadonlySet<string>): Map<string, Pending> {
  const held = new Set([...pending].filter(([, { refused }]) => refused).map(([cell]) => rowOf(cell)));
  return new Map(
    [...pending].filter(([cell, { refused }]) => {
      const row = rowOf(cell);
      return rows.has(row) || !held.has(row) || !(refused || row.startsWith(FRESH));
    }),
  );
}

const rowOf = (cell: string): string => cell.slice(0, cell.lastIndexOf(" "));
const columnOf = (cell: string): string => cell.slice(cell.lastIndexOf(" ") + 1);

function same(book: PlanState["book"], cell: string, text: string): boolean {
  const segment = book.get("segment", rowOf(cell));
  if (!segment) return text.trim() === "";
  const field = fieldsOf("segment", book, segment.id).find((f) => f.name === columnOf(cell));
  return field !== undefined && shownText(field, segment) === text.trim();
}

/** A field of a segment as its cell shows it. */
export function shownText(field: FieldSpec, segment: object): string {
  const held = segment as Record<string, unknown>;
  return field.name === "encapsulation" && !held.vni ? "" : String(shown(field, held[field.name]));
}

function compose(book: PlanState["book"], pending: ReadonlyMap<string, Pending>): Composed {
  const composed: Composed = { operations: [], cells: [], wrong: new Map(), made: new Map() };
  for (const [row, cells] of Map.groupBy(pending, ([cell]) => rowOf(cell))) {
    const own = book.get("segment", row);
    const fields = fieldsOf("segment", book, own?.id);
    const set: Record<string, unknown> = {};
    const used: string[] = [];
    for (const [cell, { text }] of cells) {
      const field = fields.find((f) => f.name === columnOf(cell))!;
      const wrong: string[] = [];
      const value = parsed(field, field.kind === "choice" ? text.trim().toLowerCase() : text, wrong, undefined);
      if (wrong.length) composed.wrong.set(cell, wrong.join(". "));
      else if (own ? shownText(field, own) !== text.trim() : text.trim()) {
        set[field.name] = value;
        used.push(cell);
      }
    }
    // One of the two says how a segment is told apart.
    if (own && set.vid && own.vni && !("vni" in set)) set.vni = null;
    if (own && set.vni && own.vid && !("vid" in set)) set.vid = null;
    if (own && used.length) composed.operations.push(patch("segment", own.id, set));
    else if (!own && typeof set.name === "string") {
      const id = freshId(book, `segment-${set.name}`, new Set(composed.made.values()));
      composed.made.set(row, id);
      composed.operations.push(putRecord("segment", { id, ...set }));
    } else continue;
    composed.cells.push(...used);
  }
  return composed;
}

function said(book: PlanState["book"], operations: Operation[], cells: string[]): string {
  const [first] = operations;
  const name = book.get("segment", String(first!.id))?.name ?? String(first!.record?.name);
  if (operations.length > 1) return `Ledger: ${cells.length} cells of ${operations.length} segments`;
  if (first!.op === "put") return `Make segment ${name}`;
  const [[field, value] = [""]] = Object.entries(first!.set ?? {});
  const { label = field } = fieldsOf("segment", book).find((f) => f.name === field) ?? {};
  return `Segment ${name}: ${label} ${Array.isArray(value) ? value.join(", ") : String(value ?? "nothing")}`;
}
