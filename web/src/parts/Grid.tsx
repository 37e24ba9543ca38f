import "./sheetGrid.css";

import { RevoGrid, type ColumnRegular } from "@revolist/react-datagrid";
import { useEffect, useRef } from "react";

/** What is done with an event of the grid, which reaches us as such. */
export type Heard = (event: Event, grid: HTMLRevoGridElement) => void;

/** A key is heard before the grid hears it, so that it can be kept from it. */
const before = (name: string): boolean => name === "keydown";

/**
 * The grid on which every sheet stands: rows and columns of which only those in sight are in the page.  The first
 * column stays where it is.  `on` says what is done with its events, the same ones for as long as it stands.
 *
 * It says for itself what the grid leaves open for who doesn't see it: that the heads of columns stand in a row,
 * that what scrolls takes the focus to be scrolled by keys, and that a cell has it once the grid itself gets it.
 */
export function Grid({
  label,
  columns,
  source,
  rowSize,
  on,
  ...more
}: {
  label: string;
  columns: ColumnRegular[];
  source: object[];
  rowSize: number;
  on: Readonly<Record<string, Heard>>;
  range?: boolean;
  resize?: boolean;
  readonly?: boolean;
  /** The part of a row that says how it looks. */
  rowClass?: string;
}) {
  const grid = useRef<HTMLRevoGridElement>(null);
  const latest = useRef(on);
  useEffect(() => {
    latest.current = on;
  });
  useEffect(() => {
    const element = grid.current;
    if (!element) return;
    const own: Record<string, (event: Event) => void> = {
      afterheaderrender: () => {
        // A row of heads is drawn before its heads are: without any it is no row.
        for (const row of element.querySelectorAll(".header-rgRow.actual-rgRow"))
          if (row.childElementCount) row.setAttribute("role", "row");
          else row.removeAttribute("role");
        for (const part of element.querySelectorAll(".vertical-inner")) {
          part.setAttribute("role", "rowgroup");
          part.setAttribute("tabindex", "0");
        }
      },
      focus: (event) => {
        if (event.target !== element) return;
        void element.getFocused().then(async (at) => {
          if (!at) await element.setCellsFocus({ x: 0, y: 0 }, { x: 0, y: 0 }, "colPinStart");
        });
      },
    };
    for (const name of Object.keys(latest.current)) own[name] = (event) => latest.current[name]?.(event, element);
    for (const [name, heard] of Object.entries(own)) element.addEventListener(name, heard, before(name));
    return () => {
      for (const [name, heard] of Object.entries(own)) element.removeEventListener(name, heard, before(name));
    };
  }, []);
  return (
    <RevoGrid
      ref={grid}
      className="sheet-grid"
      aria-label={label}
      theme="compact"
      columns={columns}
      source={source}
      rowSize={rowSize}
      filter={false}
      hideAttribution
      {...more}
    />
  );
}
