import type { CellTemplateProp, ColumnRegular, HyperFunc, VNode } from "@revolist/react-datagrid";
import { useCallback, useEffect, useMemo, useRef } from "react";
import { createSearchParams, useNavigate } from "react-router";

import type { Finding } from "../api/client";
import { usePlan, usePresence } from "../api/plan";
import { useViewport } from "../decks/useViewport";
import { frameEnd } from "../model/records";
import { sayMoves } from "../model/verdicts";
import { Grid, type Heard } from "../parts/Grid";
import { drawMark } from "../parts/VerdictMark";
import { beyond, fitting, landsOn, type Column, type Row } from "./columns";
import { Head, Line } from "./lines";
import { useFirstMends } from "./useFirstMends";

/** Room for the bar by which the grid is scrolled, in px. */
const BAR = 14;

/** What a cell does by a click on its `text` or Enter, and what is said of it; Shift and Enter do what `also` says. */
interface Deed {
  text: string;
  says: string;
  act: () => void;
  also?: { says: string; name: string; act: () => void };
}

/** Every place with what is known of it, a row each, in groups; read, copied and acted on, not typed into. */
export function LandingGrid({
  columns,
  lines,
  rows,
  open,
}: {
  columns: readonly Column[];
  /** What stands in the grid, in its order. */
  lines: readonly (Head | Line)[];
  /** All places, by which the columns' widths are found. */
  rows: readonly Row[];
  /** Open a finding in the verdict column. */
  open: (finding: Finding) => void;
}) {
  const { base, book, edit } = usePlan();
  const { busy } = usePresence();
  const navigate = useNavigate();
  const place = useRef<HTMLDivElement>(null);
  const { width } = useViewport(place, null);
  const drawAgain = useCallback(() => {
    void place.current?.querySelector("revo-grid")?.refresh("rgRow");
  }, []);
  const firstMend = useFirstMends(drawAgain);

  /** What is done by a cell, if anything. */
  const deed = (column: Column, row: Row): Deed | undefined => {
    const { endpoint, tag, finding } = row;
    const go = (view: string, asked: Record<string, string>) => () =>
      void navigate({ pathname: `${base}/${view}`, search: String(createSearchParams(asked)) });
    switch (column.id) {
      case "endpoint": {
        const follow = tag.belongs ? { follow: tag.belongs } : undefined;
        const act = go("decks", { at: endpoint.id, ...follow });
        return { text: endpoint.name, says: `${endpoint.key}: show it on Decks`, act };
      }
      case "address":
      case "gateway": {
        const here = column.text(row, book);
        if (!here || !(tag.addresses.length || tag.got)) return undefined;
        const a = frameEnd(endpoint, tag.tag);
        const text = column.short!(row, book);
        return column.id === "address"
          ? { text, says: `${here}: ping somebody from here`, act: go("trace", { a }) }
          : { text, says: `${here}: ping it from here`, act: go("trace", { a, b: text }) };
      }
      case "mend": {
        if (!finding) return undefined;
        const mend = firstMend(finding.id);
        const act = (): void => open(finding);
        if (!mend) return { text: finding.title, says: finding.title, act };
        const says = `${mend.title}: ${sayMoves(mend.tally)}`;
        const take = (): void => {
          if (!busy) void edit(mend.title, mend.edit);
        };
        return { text: mend.title, says, act, also: { says: "Take", name: `Take the mend: ${mend.title}`, act: take } };
      }
      default:
        return undefined;
    }
  };

  /** What stands in a place's cell. */
  const body = (h: HyperFunc<VNode>, column: Column, row: Row): unknown => {
    const { tag, mark } = row;
    const segment = book.get("segment", tag.belongs);
    const done = deed(column, row);
    const button = (words: string, as: Record<string, unknown>) =>
      h("button", { type: "button", tabindex: "-1", title: done?.says, ...as }, words);
    // Of a name that is cut the tag still tells it from others that begin like it.
    const tagged = (name: string, vid: number | string) => [
      h("span", { class: "cut" }, name),
      " ",
      h("span", { class: "mono soft" }, String(vid)),
    ];
    switch (column.id) {
      case "verdict":
        return [drawMark(h as never, mark), mark];
      case "belongs":
        return tagged(segment?.name ?? "not said", segment?.vid ?? "");
      case "lands":
        return tagged(landsOn(row, book), tag.lands_vid || "");
      default: {
        if (!done) return column.id === "mend" ? "" : (column.short ?? column.text)(row, book);
        const { also } = done;
        return [
          also && button(also.says, { class: "take", "aria-label": also.name, onClick: also.act }),
          button(done.text, { class: "cell-link", onClick: done.act }),
        ];
      }
    }
  };

  /** How a place's cell looks, and what is said of it. */
  const looks = (column: Column, row: Row): { class: Record<string, boolean>; title?: string } => {
    const could = column.id === "could" ? beyond(row, book) : [];
    const wrong = could.length > 0 || (column.id === "lands" && row.tag.verdict === "astray");
    const classes = { [`landing-${column.id}`]: true, mono: Boolean(column.mono), wrong };
    const acts = column.id === "mend" || column.id === "verdict" || deed(column, row) !== undefined;
    const reach = `By sending what it isn’t meant to it could hear or reach ${could.map((s) => s.name).join(", ")}`;
    const title = could.length ? reach : acts ? undefined : column.text(row, book) || undefined;
    return { class: classes, title };
  };

  // The grid keeps its columns for as long as the same ones stand; what they draw is asked of the latest rendering.
  const latest = useRef({ body, looks });
  useEffect(() => {
    latest.current = { body, looks };
  });
  const sizes = useMemo(() => fitting(columns, rows, book, width - BAR), [columns, rows, book, width]);
  const shown = useMemo<ColumnRegular[]>(
    () =>
      columns.map((column, n): ColumnRegular => ({
        prop: column.id,
        name: column.title,
        size: sizes[n]!,
        readonly: true,
        pin: column.always ? "colPinStart" : undefined,
        columnProperties: () => ({ title: column.hint }),
        cellProperties: ({ model }: CellTemplateProp) => {
          const line = model as Head | Line;
          return line instanceof Line ? latest.current.looks(column, line.row) : { class: { "landing-head": true } };
        },
        cellTemplate: (h, { model }) => {
          const line = model as Head | Line;
          if (line instanceof Line) return latest.current.body(h, column, line.row);
          if (n > 0) return "";
          return [line.mark && drawMark(h as never, line.mark), line.head, " ", h("em", {}, String(line.count))];
        },
      })),
    [columns, sizes],
  );
  const source = useMemo(() => [...lines], [lines]);
  useEffect(drawAgain, [drawAgain, book]);

  const entered: Heard = (event, grid) => {
    const { key, shiftKey } = event as KeyboardEvent;
    if (key !== "Enter") return;
    event.preventDefault();
    event.stopPropagation();
    void grid.getFocused().then((at) => {
      const line = at?.model as Head | Line | undefined;
      const column = columns.find(({ id }) => id === at?.column?.prop);
      if (!(line instanceof Line) || !column) return;
      const done = deed(column, line.row);
      (shiftKey ? done?.also : done)?.act();
    });
  };
  return (
    <div ref={place} className="landing-sheet">
      <Grid
        label="Landing of every endpoint"
        columns={shown}
        source={source}
        rowSize={34}
        rowClass="look"
        range
        resize
        readonly
        on={{ keydown: entered }}
      />
    </div>
  );
}
