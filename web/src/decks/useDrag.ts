import { useCallback, useMemo, useRef, useState, type PointerEvent as Pressed, type RefObject } from "react";

import type { PreviewResult } from "../api/client";
import { usePlan } from "../api/plan";
import type { Book } from "../model/records";
import { moveAdapter, plug, sameSite, type Proposal } from "./edits";
import type { Layout } from "./layout";
import { uplinksFor } from "./making";
import { locate } from "./places";

export interface Drag {
  id: string;
  x: number;
  y: number;
  over: string | null;
  proposals: ReadonlyMap<string, Proposal>;
}

/** Where a part could be dropped, and the edit that this would be. */
function proposalsFor(book: Book, layout: Layout, record: string): Map<string, Proposal> {
  const adapter = book.get("adapter", record);
  if (adapter) {
    const column = layout.adapterOf.get(record)?.column;
    const slots = column?.switches.flatMap((s) => s.slots) ?? [];
    return new Map(
      slots
        .filter((s) => s.id !== adapter.port_group)
        .map((s) => [s.id, moveAdapter(book, adapter, book.get("port_group", s.id)!)]),
    );
  }
  const member = book.get("nic", record);
  if (member)
    return new Map(
      uplinksFor(book, member)
        .filter((p) => layout.teamOf.has(p.key))
        .map((p) => [p.key, p]),
    );
  const nic = book.get("nic", book.far.get(record)?.id);
  if (!nic) return new Map();
  const host = layout.columnOf.get(nic.id);
  const found = new Map<string, Proposal>();
  for (const other of host?.nics ?? []) {
    const port = book.get("fabric_port", other.far);
    if (port && other.id !== nic.id) found.set(port.id, plug(book, nic, port));
  }
  const site = book.get("host", nic.host)?.site;
  for (const bar of layout.bars) {
    if (!sameSite(book.get("fabric_switch", bar.id)?.site, site)) continue;
    for (const socket of bar.sockets) found.set(socket.id, plug(book, nic, book.get("fabric_port", socket.id)!));
  }
  return found;
}

/**
 * Something taken with the mouse and dropped elsewhere. What would become of it at each place is worked out as soon as
 * it moves; Esc lets go. `justEnded` is set for the click that follows.
 */
export function useDrag(
  scroller: RefObject<HTMLDivElement | null>,
  layout: Layout,
  began: (record: string) => void,
): {
  drag: Drag | null;
  outcomes: ReadonlyMap<string, PreviewResult>;
  targets: ReadonlySet<string>;
  grab: (event: Pressed, record: string) => void;
  justEnded: RefObject<boolean>;
} {
  const { book, preview, edit, tell } = usePlan();
  const [drag, setDrag] = useState<Drag | null>(null);
  const [outcomes, setOutcomes] = useState<Map<string, PreviewResult>>(new Map());
  const dragged = useRef<Drag | null>(null);
  const justEnded = useRef(false);
  const grab = useCallback(
    (event: Pressed, record: string) => {
      if (event.button !== 0) return;
      const start = { x: event.clientX, y: event.clientY };
      const proposals = proposalsFor(book, layout, record);
      const toCanvas = (x: number, y: number): [number, number] => {
        const node = scroller.current!;
        const box = node.getBoundingClientRect();
        return [x - box.left + node.scrollLeft, y - box.top + node.scrollTop];
      };
      const move = (e: PointerEvent): void => {
        if (!dragged.current) {
          if (Math.hypot(e.clientX - start.x, e.clientY - start.y) < 5) return;
          if (!proposals.size) return;
          began(record);
          const keys = [...proposals.keys()];
          setOutcomes(new Map());
          void preview(keys.map((k) => proposals.get(k)!.operations)).then(
            (results) => setOutcomes(new Map(keys.map((k, n) => [k, results[n]!]))),
            (error: Error) => tell(error.message, true),
          );
        }
        const [x, y] = toCanvas(e.clientX, e.clientY);
        const over = [...proposals.keys()].find((k) => {
          const r = locate(layout, k);
          return r !== null && x >= r.x - 3 && x <= r.x + r.w + 3 && y >= r.y - 3 && y <= r.y + r.h + 3;
        });
        dragged.current = { id: record, x: e.clientX, y: e.clientY, over: over ?? null, proposals };
        setDrag(dragged.current);
      };
      const end = (dropped: boolean): void => {
        window.removeEventListener("pointermove", move);
        window.removeEventListener("pointerup", up);
        window.removeEventListener("keydown", onKey, true);
        const now = dragged.current;
        dragged.current = null;
        setDrag(null);
        if (!now) return;
        justEnded.current = true;
        setTimeout(() => (justEnded.current = false), 0);
        const proposal = now.over ? now.proposals.get(now.over) : undefined;
        if (dropped && proposal) void edit(proposal.message, proposal.operations);
      };
      const up = (): void => end(true);
      const onKey = (e: KeyboardEvent): void => {
        if (e.key === "Escape") {
          e.stopPropagation();
          end(false);
        }
      };
      window.addEventListener("pointermove", move);
      window.addEventListener("pointerup", up);
      window.addEventListener("keydown", onKey, true);
    },
    [book, scroller, layout, began, preview, edit, tell],
  );
  const targets = useMemo(() => new Set(drag ? drag.proposals.keys() : []), [drag]);
  return { drag, outcomes, targets, grab, justEnded };
}
