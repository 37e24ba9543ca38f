import { useEffect, useState, type RefObject } from "react";
import { useLocation, useNavigationType, useSearchParams } from "react-router";

import { usePlan } from "../api/plan";
import type { Layout } from "./layout";
import { locate, onceThere, type Viewport } from "./places";

/**
 * Follows what the address points at: `at` is brought into sight and focused, once for each visit, and opens beside the
 * drawing where it isn't drawn; `see` is brought into sight alone.
 */
export function useVisit(
  scroller: RefObject<HTMLDivElement | null>,
  layout: Layout,
  view: Viewport,
  uncover: (record: string) => void,
  open: (record: string) => void,
): void {
  const { book } = usePlan();
  const [params] = useSearchParams();
  const at = params.get("at");
  const { key } = useLocation();
  const target = at && (book.get("guest_tag", at)?.adapter ?? at);
  const pushed = useNavigationType() === "PUSH";
  const [visit, setVisit] = useState<{ at: string | null; key: string; placed: boolean }>({
    at: null,
    key: "",
    placed: true,
  });
  if (visit.at !== at || (pushed && at && visit.key !== key)) {
    setVisit({ at, key, placed: false });
    if (target) uncover(target);
  } else if (!visit.placed) {
    setVisit({ ...visit, placed: true });
    if (target && !locate(layout, target) && book.byId.has(target)) open(target);
  }
  useEffect(() => {
    const rect = target && visit.placed ? locate(layout, target) : null;
    if (!rect || !target) return;
    scroller.current?.scrollTo({ left: Math.max(0, rect.x - view.width / 3), top: Math.max(0, rect.y - 160) });
    return onceThere(scroller.current, target, (node) => {
      node.focus({ preventScroll: true });
      node.classList.add("flash");
    });
    // The layout is left out on purpose: an edit must not scroll the drawing away from under the reader.
    // eslint-disable-next-line react-hooks/exhaustive-deps
  }, [visit]);

  // An opened finding brings the place of the fault into sight, and leaves the focus where it is.
  const see = params.get("see");
  const [seen, setSeen] = useState<string | null>(null);
  if (seen !== see) {
    setSeen(see);
    if (see) uncover(see);
  }
  useEffect(() => {
    const rect = seen ? locate(layout, seen) : null;
    const node = scroller.current;
    if (!rect || !node) return;
    if (rect.x < node.scrollLeft || rect.x + rect.w > node.scrollLeft + node.clientWidth)
      node.scrollTo({ left: Math.max(0, rect.x - node.clientWidth / 2) });
    return onceThere(node, seen!, (part) => part.classList.add("flash"));
    // eslint-disable-next-line react-hooks/exhaustive-deps -- as above
  }, [seen]);
}
