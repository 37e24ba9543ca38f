import { RevoGrid, type ColumnRegular } from "@revolist/react-datagrid";
import { useEffect, useMemo, useRef } from "react";

import { useGridRows } from "./useGridRows";

/** What somebody typed, pasted or filled into a cell. */
export interface Typed {
  row: string;
  column: string;
  text: string;
}

export interface SheetColumn {
  id: string;
  name: string;
  size: number;
  /** Nothing can be typed there. */
  told?: boolean;
  pinned?: boolean;
}

/** Texts by column, under an id. */
export type SheetRow = { id: string } & Record<string, string>;

/** What is to be known of a cell: how grave, and in words. */
export interface CellMark {
  tone: "bad" | "warn" | "waits";
  text: string;
}

/** Cells of a block that was copied out of a spreadsheet. */
const blockOf = (text: string): string[][] =>
  text
    .replace(/\r?\n$/, "")
    .split(/\r?\n/)
    .map((line) => line.split("\t"));

/**
 * Rows and columns worked like a sheet: arrows, typing, ranges, fill by the corner or Ctrl D, copy and paste.
 * What is typed is told to `put`, all at once where it was more than one cell, and stands there once `rows` says it.
 */
export function SheetGrid({
  label,
  columns,
  rows,
  mark,
  put,
  fresh,
  picked,
}: {
  label: string;
  columns: readonly SheetColumn[];
  rows: readonly SheetRow[];
  mark: (row: string, column: string) => CellMark | undefined;
  put: (typed: Typed[]) => void;
  /** The id of the nth row below all others, which isn't there yet. */
  fresh: (n: number) => string;
  /** Told when another row has the focus. */
  picked?: (row: string) => void;
}) {
  const grid = useRef<HTMLRevoGridElement>(null);
  const shown = useMemo<ColumnRegular[]>(
    () =>
      columns.map(({ id, name, size, told, pinned }) => ({
        prop: id,
        name,
        size,
        readonly: told,
        pin: pinned ? "colPinStart" : undefined,
        sortable: true,
        cellProperties: ({ model }) => {
          const found = mark(String(model.id), id);
          return {
            class: { [`cell-${found?.tone}`]: found !== undefined, "cell-told": Boolean(told) },
            ...(found ? { title: found.text, "aria-description": found.text } : {}),
            ...(found?.tone === "bad" ? { "aria-invalid": "true" } : {}),
          };
        },
      })),
    [columns, mark],
  );
  const source = useMemo(() => rows.map((row) => ({ ...row })), [rows]);
  const latest = useRef({ columns, rows, put, fresh });
  useEffect(() => {
    latest.current = { columns, rows, put, fresh };
  });

  useGridRows(grid, Boolean(columns[0]?.pinned));

  // Of the grid's own events, which reach us as such: what would change its source changes the plan instead.
  useEffect(() => {
    const element = grid.current;
    if (!element) return;
    const idAt = (index: number): string =>
      latest.current.rows[index]?.id ?? latest.current.fresh(index - latest.current.rows.length);
    const one = (event: Event): void => {
      const { detail } = event as CustomEvent<{ prop: string; val?: string; model: SheetRow }>;
      event.preventDefault();
      latest.current.put([{ row: detail.model.id, column: detail.prop, text: String(detail.val ?? "") }]);
    };
    const many = (event: Event): void => {
      const { detail } = event as CustomEvent<{
        data: Record<number, Record<string, unknown>>;
        models: Record<number, SheetRow>;
      }>;
      event.preventDefault();
      const readonly = new Set(latest.current.columns.filter((c) => c.told).map((c) => c.id));
      latest.current.put(
        Object.entries(detail.data).flatMap(([index, cells]) =>
          Object.entries(cells)
            .filter(([column]) => !readonly.has(column))
            .map(([column, text]) => ({
              row: detail.models[Number(index)]?.id ?? idAt(Number(index)),
              column,
              text: String(text ?? ""),
            })),
        ),
      );
    };
    const pasted = (event: Event): void => {
      const { detail } = event as CustomEvent<{ raw: string; isHTML: boolean; event: ClipboardEvent }>;
      event.preventDefault();
      void element.getFocused().then((at) => {
        if (!at) return;
        const { columns: known } = latest.current;
        const first = known.findIndex((column) => column.id === at.column?.prop);
        const text = detail.event.clipboardData?.getData("text/plain") || detail.raw;
        latest.current.put(
          blockOf(text).flatMap((cells, y) =>
            cells.flatMap((cell, x) => {
              const column = known[first + x];
              return column && !column.told ? [{ row: idAt(at.cell.y + y), column: column.id, text: cell.trim() }] : [];
            }),
          ),
        );
      });
    };
    const focused = (event: Event): void => {
      const { detail } = event as CustomEvent<{ model?: SheetRow }>;
      if (detail.model) picked?.(detail.model.id);
    };
    const filled = (event: KeyboardEvent): void => {
      if (!(event.ctrlKey || event.metaKey) || event.key.toLowerCase() !== "d") return;
      event.preventDefault();
      void element.getSelectedRange().then((range) => {
        if (!range) return;
        const { columns: every, rows: all } = latest.current;
        // Columns are counted within those that are pinned, and within the others.
        const known = every.filter((column) => Boolean(column.pinned) === (range.colType === "colPinStart"));
        const across = known.slice(range.x, range.x1 + 1).filter((column) => !column.told);
        const below = Array.from({ length: range.y1 - range.y }, (_, n) => idAt(range.y + 1 + n));
        const from = all[range.y];
        latest.current.put(
          below.flatMap((row) => across.map(({ id }) => ({ row, column: id, text: from?.[id] ?? "" }))),
        );
      });
    };
    element.addEventListener("keydown", filled, true);
    element.addEventListener("beforeedit", one);
    element.addEventListener("beforerangeedit", many);
    element.addEventListener("beforepaste", pasted);
    element.addEventListener("afterfocus", focused);
    return () => {
      element.removeEventListener("keydown", filled, true);
      element.removeEventListener("beforeedit", one);
      element.removeEventListener("beforerangeedit", many);
      element.removeEventListener("beforepaste", pasted);
      element.removeEventListener("afterfocus", focused);
    };
  }, [picked]);

  return (
    <RevoGrid
      ref={grid}
      className="sheet-grid"
      aria-label={label}
      theme="compact"
      columns={shown}
      source={source}
      rowSize={28}
      range
      filter={false}
      resize
      hideAttribution
    />
  );
}
