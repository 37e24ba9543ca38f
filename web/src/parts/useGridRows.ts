import "./sheetGrid.css";

import { useEffect, type RefObject } from "react";

/**
 * What the grid leaves open for who doesn't see it: that the heads of columns stand in a row, and that a cell has the
 * focus once the grid itself gets it.
 */
export function useGridRows(grid: RefObject<HTMLRevoGridElement | null>, pinned: boolean, shown = true): void {
  useEffect(() => {
    const element = grid.current;
    if (!element) return;
    const headed = (): void =>
      element.querySelectorAll(".header-rgRow.actual-rgRow").forEach((row) => row.setAttribute("role", "row"));
    const entered = (event: FocusEvent): void => {
      if (event.target !== element) return;
      void element.getFocused().then(async (at) => {
        if (!at) await element.setCellsFocus({ x: 0, y: 0 }, { x: 0, y: 0 }, pinned ? "colPinStart" : "rgCol");
      });
    };
    headed();
    element.addEventListener("afterheaderrender", headed);
    element.addEventListener("focus", entered);
    return () => {
      element.removeEventListener("afterheaderrender", headed);
      element.removeEventListener("focus", entered);
    };
  }, [grid, pinned, shown]);
}
