import type { ColumnRegular } from "@revolist/react-datagrid";
import { useMemo } from "react";

import { Grid, type Heard } from "./Grid";

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
  held,
  put,
  fresh,
}: {
  label: string;
  /** The first of them stays where it is. */
  columns: readonly SheetColumn[];
  rows: readonly SheetRow[];
  mark: (row: string, column: string) => CellMark | undefined;
  /** Why nothing can be typed into a cell; empty where something can. */
  held: (row: string, column: string) => string;
  put: (typed: Typed[]) => void;
  /** The id of the nth row below all others, which isn't there yet. */
  fresh: (n: number) => string;
}) {
  const shown = useMemo<ColumnRegular[]>(
    () =>
      columns.map(({ id, name, size, told }, n) => ({
        prop: id,
        name,
        size,
        readonly: told || (({ model }) => held(String(model?.id), id) !== ""),
        pin: n === 0 ? "colPinStart" : undefined,
        sortable: true,
        cellProperties: ({ model }) => {
          const found = mark(String(model.id), id);
          const why = [found?.text, held(String(model.id), id)].filter(Boolean).join("; ");
          return {
            class: {
              [`cell-${found?.tone}`]: found !== undefined,
              "cell-told": Boolean(told) || held(String(model.id), id) !== "",
            },
            ...(why ? { title: why, "aria-description": why } : {}),
            ...(found?.tone === "bad" ? { "aria-invalid": "true" } : {}),
          };
        },
      })),
    [columns, mark, held],
  );
  const source = useMemo(() => rows.map((row) => ({ ...row })), [rows]);
  const idAt = (index: number): string => rows[index]?.id ?? fresh(index - rows.length);
  const open = columns.filter((column) => !column.told);

  // What would change the grid's own source changes the plan instead.
  const one: Heard = (event) => {
    const { detail } = event as CustomEvent<{ prop: string; val?: string; model: SheetRow }>;
    event.preventDefault();
    put([{ row: detail.model.id, column: detail.prop, text: String(detail.val ?? "") }]);
  };
  const many: Heard = (event) => {
    const { detail } = event as CustomEvent<{
      data: Record<number, Record<string, unknown>>;
      models: Record<number, SheetRow>;
    }>;
    event.preventDefault();
    put(
      Object.entries(detail.data).flatMap(([index, cells]) =>
        open
          .filter(({ id }) => id in cells)
          .map(({ id }) => ({
            row: detail.models[Number(index)]?.id ?? idAt(Number(index)),
            column: id,
            text: String(cells[id] ?? ""),
          })),
      ),
    );
  };
  const pasted: Heard = (event, grid) => {
    const { detail } = event as CustomEvent<{ raw: string; event: ClipboardEvent }>;
    event.preventDefault();
    const text = detail.event.clipboardData?.getData("text/plain") || detail.raw;
    void grid.getFocused().then((at) => {
      if (!at) return;
      const first = columns.findIndex((column) => column.id === at.column?.prop);
      put(
        blockOf(text).flatMap((cells, y) =>
          cells.flatMap((cell, x) => {
            const column = columns[first + x];
            return column && !column.told ? [{ row: idAt(at.cell.y + y), column: column.id, text: cell.trim() }] : [];
          }),
        ),
      );
    });
  };
  const filled: Heard = (event, grid) => {
    const key = event as KeyboardEvent;
    if (!(key.ctrlKey || key.metaKey) || key.key.toLowerCase() !== "d") return;
    event.preventDefault();
    void grid.getSelectedRange().then((range) => {
      if (!range) return;
      // Columns are counted within the one that stays, and within the others.
      const known = range.colType === "colPinStart" ? columns.slice(0, 1) : columns.slice(1);
      const across = known.slice(range.x, range.x1 + 1).filter((column) => !column.told);
      const below = Array.from({ length: range.y1 - range.y }, (_, n) => idAt(range.y + 1 + n));
      const from = rows[range.y];
      put(below.flatMap((row) => across.map(({ id }) => ({ row, column: id, text: from?.[id] ?? "" }))));
    });
  };
  return (
    <Grid
      label={label}
      columns={shown}
      source={source}
      rowSize={28}
      range
      resize
      on={{ beforeedit: one, beforerangeedit: many, beforepaste: pasted, keydown: filled }}
    />
  );
}
