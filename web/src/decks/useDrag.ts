import { useCallback, useMemo, useRef, useState, type PointerEvent as Pressed, type RefObject } from "react";

import type { PreviewResult } from "../api/client";
import { tryGesture, usePlan } from "../api/plan";
import type { Book } from "../model/records";
import { moveAdapter, plug, sameSite, type Proposal } from "./edits";
import type { Layout } from "./layout";
import { uplinksFor } from "./making";
import { locate } from "./places";

/** A guest taken to another host: the server finds which port groups its adapters take there. */
interface GuestMove {
  guests: string[];
  host: string;
}

export interface Drag {
  id: string;
  x: number;
  y: number;
  over: string | null;
  proposals: ReadonlyMap<string, Proposal | GuestMove>;
}

/** So near to the edge of what is in sight, in pixels, the drawing comes along. */
const EDGE = 48;

/** Where a part could be dropped, and the edit that this would be. */
function proposalsFor(book: Book, layout: Layout, record: string): Map<string, Proposal | GuestMove> {
  const guest = book.get("guest", record);
  if (guest) {
    const others = layout.columns.filter((column) => column.host !== guest.host);
    return new Map(others.map(({ host }) => [host, { guests: [record], host }]));
  }
  const adapter = book.get("adapter", record);
  if (adapter) {
    const column = layout.columnOf.get(record);
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
  const { id: plan, snapshot, book, preview, edit, gesture, tell } = usePlan();
  const { revision } = snapshot;
  const [drag, setDrag] = useState<Drag | null>(null);
  const [outcomes, setOutcomes] = useState<Map<string, PreviewResult>>(new Map());
  const dragged = useRef<Drag | null>(null);
  const justEnded = useRef(false);
  const grab = useCallback(
    (event: Pressed, record: string) => {
      if (event.button !== 0) return;
      const start = { x: event.clientX, y: event.clientY };
      const proposals = proposalsFor(book, layout, record);
      const asked = new Set<string>();
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
          setOutcomes(new Map());
          const edits = [...proposals].flatMap(([k, p]) => ("operations" in p ? [[k, p.operations] as const] : []));
          if (edits.length)
            void preview(edits.map(([, operations]) => operations)).then(
              (results) => setOutcomes(new Map(edits.map(([k], n) => [k, results[n]!]))),
              (error: Error) => tell(error.message, true),
            );
        }
        const box = scroller.current!.getBoundingClientRect();
        if (e.clientX > box.right - EDGE) scroller.current!.scrollLeft += EDGE / 2;
        else if (e.clientX < box.left + EDGE) scroller.current!.scrollLeft -= EDGE / 2;
        const [x, y] = toCanvas(e.clientX, e.clientY);
        const over = [...proposals.keys()].find((k) => {
          // All of a host takes a guest.
          const column = layout.columnOf.get(k);
          const r = column?.host === k ? { x: column.x, y: 0, w: column.w, h: layout.height } : locate(layout, k);
          return r !== null && x >= r.x - 3 && x <= r.x + r.w + 3 && y >= r.y - 3 && y <= r.y + r.h + 3;
        });
        const onto = over && over !== dragged.current?.over ? proposals.get(over) : undefined;
        if (over && onto && "guests" in onto && !asked.has(over)) {
          asked.add(over);
          void tryGesture(plan, revision, "move-guests", onto).then(
            ({ preview: found }) => found && setOutcomes((now) => new Map(now).set(over, found)),
            (error: Error) => tell(error.message, true),
          );
        }
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
        if (!dropped || !proposal) return;
        if ("operations" in proposal) void edit(proposal.message, proposal.operations);
        else void gesture("move-guests", proposal);
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
    [plan, revision, book, scroller, layout, began, preview, edit, gesture, tell],
  );
  const targets = useMemo(() => new Set(drag ? drag.proposals.keys() : []), [drag]);
  return { drag, outcomes, targets, grab, justEnded };
}
