import { useLayoutEffect, useState, type RefObject } from "react";

import type { Viewport } from "./places";

/** While it is scrolled, a drawing is looked at anew every so many pixels: fewer than are drawn beyond its edges. */
const STEP = 240;
/** And once it has rested for so many milliseconds. */
const REST = 100;

/** How far a drawing is scrolled and how large it is; `drawn` is another value whenever its node may be another one. */
export function useViewport(scroller: RefObject<HTMLDivElement | null>, drawn: unknown): Viewport {
  const [view, setView] = useState<Viewport>({ left: 0, width: 900, height: 0 });
  useLayoutEffect(() => {
    const node = scroller.current;
    if (!node) return;
    let known = node.scrollLeft;
    let resting: number | undefined;
    const measure = (): void => {
      known = node.scrollLeft;
      setView((now) =>
        now.left === node.scrollLeft && now.width === node.clientWidth && now.height === node.clientHeight
          ? now
          : { left: node.scrollLeft, width: node.clientWidth, height: node.clientHeight },
      );
    };
    const scrolled = (): void => {
      window.clearTimeout(resting);
      if (Math.abs(node.scrollLeft - known) >= STEP) measure();
      else resting = window.setTimeout(measure, REST);
    };
    measure();
    const observer = new ResizeObserver(measure);
    observer.observe(node);
    node.addEventListener("scroll", scrolled, { passive: true });
    return () => {
      window.clearTimeout(resting);
      observer.disconnect();
      node.removeEventListener("scroll", scrolled);
    };
  }, [scroller, drawn]);
  return view;
}
