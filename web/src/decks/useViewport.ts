import { useLayoutEffect, useState, type RefObject } from "react";

import type { Viewport } from "./places";

/** How far a drawing is scrolled and how large it is; `drawn` is another value whenever its node may be another one. */
export function useViewport(scroller: RefObject<HTMLDivElement | null>, drawn: unknown): Viewport {
  const [view, setView] = useState<Viewport>({ left: 0, width: 900, height: 600 });
  useLayoutEffect(() => {
    const node = scroller.current;
    if (!node) return;
    const measure = (): void =>
      setView((now) =>
        now.left === node.scrollLeft && now.width === node.clientWidth && now.height === node.clientHeight
          ? now
          : { left: node.scrollLeft, width: node.clientWidth, height: node.clientHeight },
      );
    measure();
    const observer = new ResizeObserver(measure);
    observer.observe(node);
    node.addEventListener("scroll", measure, { passive: true });
    return () => {
      observer.disconnect();
      node.removeEventListener("scroll", measure);
    };
  }, [scroller, drawn]);
  return view;
}
