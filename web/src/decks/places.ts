import type { CSSProperties } from "react";

import { adapterIn, type Layout, type Rect } from "./layout";

/** The part of the drawing that is in sight: how far it is scrolled, and how large it is. */
export interface Viewport {
  left: number;
  width: number;
  /** 0 before it was measured. */
  height: number;
}

const PANEL_WIDTH = 292;
export const BUBBLE_WIDTH = 218;

/** Where a record is drawn; null where it isn't. */
export function locate(layout: Layout, record: string): Rect | null {
  const adapter = adapterIn(layout.columnOf.get(record), record);
  if (adapter) return adapter.box;
  const known =
    layout.slotOf.get(record) ??
    layout.nicOf.get(record) ??
    layout.above.get(record)?.below ??
    layout.teamOf.get(record) ??
    layout.barOf.get(record);
  if (known) return known;
  for (const bar of layout.bars) {
    const socket = bar.sockets.find((s) => s.id === record);
    if (socket) return socket;
  }
  for (const trunk of layout.trunks) {
    for (const end of [trunk.a, trunk.b])
      if (end.port === record) return { x: end.x - 10, y: end.y - 10, w: 40, h: 20 };
  }
  for (const column of layout.columns) {
    const part = column.guests.find((g) => g.id === record) ?? column.switches.find((s) => s.id === record);
    if (part) return part;
    if (column.host === record) return { x: column.x, y: 0, w: column.w, h: 30 };
  }
  return null;
}

/** Where the port ends at which a strand breaks. */
export function bottomOf(layout: Layout, broken: { at: string; y: number }): number {
  const port = layout.above.get(broken.at)?.below;
  return port ? port.y + port.h : broken.y + 8;
}

/** Under what was chosen, or over it where there is no room; always inside what is in sight. */
export function panelPlace(rect: Rect, layout: Layout, view: Viewport): CSSProperties {
  const left = Math.max(view.left + 8, Math.min(rect.x, view.left + view.width - PANEL_WIDTH - 12));
  return rect.y > layout.height - 300
    ? { left, bottom: layout.height - rect.y + 6 }
    : { left, top: rect.y + rect.h + 6 };
}

/**
 * Beside the column where something is built, so that the drawing stays in sight; under its head where there is no
 * room.
 */
export function buildPlace(rect: Rect, layout: Layout, view: Viewport): CSSProperties {
  const right = rect.x + rect.w + 12;
  const left = right + 388 < view.left + view.width ? right : rect.x - 396 > view.left ? rect.x - 396 : view.left + 8;
  return { left, top: Math.max(40, Math.min(rect.y, layout.height - 420)) };
}

export function bubbleLeft(rect: Rect, view: Viewport): number {
  return Math.max(view.left + 4, Math.min(rect.x - 40, view.left + view.width - BUBBLE_WIDTH - 26));
}

/**
 * Do something with a part of the drawing once it is in the page: its column comes there after the drawing has
 * scrolled, sooner or later.
 */
export function onceThere(drawing: HTMLElement | null, id: string, act: (node: HTMLElement) => void): () => void {
  const until = performance.now() + 10_000;
  let seen: HTMLElement | null | undefined;
  let frame = requestAnimationFrame(function look() {
    const node = drawing?.querySelector<HTMLElement>(`[data-id="${CSS.escape(id)}"]`);
    // A frame later, so that a dialog that closes has given the focus back by then.
    if (node && node === seen) act(node);
    else if (performance.now() < until) frame = requestAnimationFrame(look);
    seen = node;
  });
  return () => cancelAnimationFrame(frame);
}
