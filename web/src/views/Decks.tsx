import "../decks/Decks.css";

import { useQuery } from "@tanstack/react-query";
import { useCallback, useEffect, useLayoutEffect, useMemo, useRef, useState } from "react";
import { Link, useLocation, useNavigationType, useSearchParams } from "react-router";

import { api, unwrap, type Endpoint, type PreviewResult, type Verdict } from "../api/client";
import { usePlan } from "../api/plan";
import { Beside } from "../decks/Beside";
import { Build } from "../decks/Build";
import { useDraft } from "../decks/draft";
import { moveAdapter, outcome, plug, type Proposal } from "../decks/edits";
import type { FieldSpec } from "../decks/fields";
import { BAR, computeLayout, hostsInOrder, rounded, type Layout, type Rect } from "../decks/layout";
import { ManyPanel, namesakes, PickBar } from "../decks/Many";
import { Clashing, Outcome, usePreviews } from "../decks/Panel";
import {
  AdapterTab,
  FabricBar,
  FarEnd,
  GuestCard,
  HostHead,
  HostPortPill,
  MorePorts,
  Nic,
  place,
  Slot,
  Socket,
  SwitchFrame,
  Team,
  TrunkEnd,
  type Scene,
} from "../decks/parts";
import { uplinksFor } from "../decks/making";
import { RecordPanel } from "../decks/RecordPanel";
import { Sheet } from "../decks/Sheet";
import { brief, drawStrand, stackReasons } from "../decks/strand";
import { compareNames, hostOf, readVid, segmentStyle, switchOf } from "../model/records";
import { VerdictMark } from "../parts/VerdictMark";

const PANEL_WIDTH = 292;
const BUBBLE_WIDTH = 218;

interface Drag {
  id: string;
  x: number;
  y: number;
  over: string | null;
  proposals: Map<string, Proposal>;
}

export function Decks() {
  const { id, snapshot, book, preview, edit, tell } = usePlan();
  const [params, setParams] = useSearchParams();
  const scroller = useRef<HTMLDivElement>(null);
  const [view, setView] = useState({ left: 0, width: 900 });
  const [folded, setFolded] = useState<ReadonlySet<string>>(new Set());
  const [filter, setFilter] = useState("");
  const [selected, setSelected] = useState<string | null>(null);
  const [panel, setPanel] = useState<"tag" | "panel" | "build" | "sheet" | "many" | null>(null);
  const [picks, setPicks] = useState<readonly string[]>([]);
  const [onto, setOnto] = useState<string | null>(null);
  const [drag, setDrag] = useState<Drag | null>(null);
  const [outcomes, setOutcomes] = useState<Map<string, PreviewResult>>(new Map());
  const dragged = useRef<Drag | null>(null);
  const justDragged = useRef(false);

  const segments = useMemo(
    () =>
      [...book.records.segment].sort(
        (a, b) => (a.vid ?? (a.vni ? 5000 : 4999)) - (b.vid ?? (b.vni ? 5000 : 4999)) || compareNames(a.name, b.name),
      ),
    [book],
  );
  const numberOf = useMemo(() => new Map(segments.map((s, n) => [s.id, n])), [segments]);
  const segmentOf = useMemo(() => new Map(segments.filter((s) => s.vid).map((s) => [s.vid!, s])), [segments]);
  const { endpoints } = snapshot;
  const ofHost = useMemo(() => {
    const made = new Map<string, Endpoint[]>();
    for (const endpoint of endpoints.values()) {
      const known = made.get(endpoint.host);
      if (known) known.push(endpoint);
      else made.set(endpoint.host, [endpoint]);
    }
    return made;
  }, [endpoints]);

  const asked = params.get("follow");
  const first = snapshot.summary.findings.find((f) => f.segment)?.segment;
  const followId = asked === "none" ? null : (asked ?? first ?? null);
  const follow = book.get("segment", followId) ?? null;
  const setFollow = useCallback(
    (next: string | null) =>
      setParams(
        (now) => {
          const made = new URLSearchParams(now);
          made.set("follow", next ?? "none");
          made.delete("at");
          return made;
        },
        { replace: true },
      ),
    [setParams],
  );
  const pieces = useQuery({
    queryKey: ["strand", id, snapshot.revision, follow?.id],
    enabled: follow !== null,
    placeholderData: (before, query) => (query?.queryKey[3] === follow?.id ? before : undefined),
    queryFn: async () =>
      unwrap(
        await api.GET("/api/plans/{plan_id}/strand", {
          params: { path: { plan_id: id }, query: { segment: follow!.id } },
        }),
      ),
  });

  const planted = book.records.fabric_switch.some((s) => s.spanning_tree);
  const tree = useQuery({
    queryKey: ["tree", id, snapshot.revision],
    enabled: planted,
    placeholderData: (before) => before,
    queryFn: async () => unwrap(await api.GET("/api/plans/{plan_id}/tree", { params: { path: { plan_id: id } } })),
  });
  const roots = useMemo(() => new Set(planted ? Object.values(tree.data?.roots ?? {}) : []), [planted, tree.data]);
  const blocked = planted ? (tree.data?.blocked ?? {}) : {};

  const hosts = useMemo(() => {
    const words = filter.toLowerCase().split(/\s+/).filter(Boolean);
    return hostsInOrder(book).filter((h) => words.every((w) => `${h.name} ${h.site ?? ""}`.toLowerCase().includes(w)));
  }, [book, filter]);
  const layout = useMemo(() => computeLayout(book, hosts, folded, view.width), [book, hosts, folded, view.width]);
  const drawing = useMemo(
    () => (follow && pieces.data ? drawStrand(layout, pieces.data) : null),
    [follow, pieces.data, layout],
  );

  const [one, two] = (params.get("beside") ?? "").split(" ").map((h) => book.get("host", h)?.id);
  const besides = Boolean(one && two);
  useLayoutEffect(() => {
    const node = scroller.current;
    if (!node) return;
    const measure = (): void =>
      setView((now) =>
        now.left === node.scrollLeft && now.width === node.clientWidth
          ? now
          : { left: node.scrollLeft, width: node.clientWidth },
      );
    measure();
    const observer = new ResizeObserver(measure);
    observer.observe(node);
    node.addEventListener("scroll", measure, { passive: true });
    return () => {
      observer.disconnect();
      node.removeEventListener("scroll", measure);
    };
  }, [hosts.length, besides]);

  const chips = useRef<HTMLDivElement>(null);
  useEffect(() => {
    const pressed = chips.current?.querySelector<HTMLElement>('[aria-pressed="true"]');
    if (pressed && chips.current)
      chips.current.scrollLeft = Math.max(
        0,
        pressed.offsetLeft - chips.current.offsetLeft - chips.current.clientWidth / 2 + pressed.offsetWidth / 2,
      );
  }, [followId]);

  // Only the columns in sight are in the page: a thousand hosts scroll like four.
  const visible = layout.columns.filter((c) => c.x + c.w > view.left - 320 && c.x < view.left + view.width + 320);
  const inSight = useMemo(() => new Set(visible.map((c) => c.host)), [visible]);

  const rectOf = useCallback((record: string): Rect | null => locate(layout, record), [layout]);

  const close = useCallback(() => {
    setPanel(null);
    const node = selected ? scroller.current?.querySelector<HTMLElement>(`[data-id="${CSS.escape(selected)}"]`) : null;
    node?.focus({ preventScroll: true });
  }, [selected]);

  const build = useCallback((host: string, sw: string | null) => {
    setSelected(sw ?? host);
    setOnto(sw);
    setPanel("build");
  }, []);
  const setBeside = useCallback(
    (left: string | null, right: string | null) =>
      setParams((now) => {
        const made = new URLSearchParams(now);
        if (left && right) made.set("beside", `${left} ${right}`);
        else made.delete("beside");
        return made;
      }),
    [setParams],
  );
  const compare = useCallback(
    (host: string) => {
      const order = hostsInOrder(book).map((h) => h.id);
      const next = order[(order.indexOf(host) + 1) % order.length];
      setPanel(null);
      if (next && next !== host) setBeside(host, next);
    },
    [book, setBeside],
  );

  const open = useCallback((record: string) => {
    setSelected(record);
    setPanel("panel");
  }, []);
  const select = useCallback(
    (record: string) => {
      if (justDragged.current) return;
      open(record);
      if (book.get("port_group", record)?.mode === "access") setPanel("tag");
    },
    [book, open],
  );

  /** Show the host of a part, if it is folded up or filtered out. */
  const uncover = (record: string): void => {
    const host = hostOf(book, record);
    if (host && folded.has(host)) setFolded(new Set([...folded].filter((h) => h !== host)));
    if (host && !hosts.some((h) => h.id === host)) setFilter("");
  };

  // A link can point at a record: bring it into sight, once for each visit. What isn't drawn opens beside the drawing.
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

  const proposalsFor = useCallback(
    (record: string): Map<string, Proposal> => {
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
      const site = book.get("host", nic.host)?.site ?? "";
      for (const bar of layout.bars) {
        if ((book.get("fabric_switch", bar.id)?.site ?? "") !== site) continue;
        for (const socket of bar.sockets) found.set(socket.id, plug(book, nic, book.get("fabric_port", socket.id)!));
      }
      return found;
    },
    [book, layout],
  );

  const grab = useCallback(
    (event: React.PointerEvent, record: string) => {
      if (event.button !== 0) return;
      const start = { x: event.clientX, y: event.clientY };
      const proposals = proposalsFor(record);
      const toCanvas = (x: number, y: number): [number, number] => {
        const node = scroller.current!;
        const box = node.getBoundingClientRect();
        return [x - box.left + node.scrollLeft, y - box.top + node.scrollTop];
      };
      const move = (e: PointerEvent): void => {
        if (!dragged.current) {
          if (Math.hypot(e.clientX - start.x, e.clientY - start.y) < 5) return;
          if (!proposals.size) return;
          setPanel(null);
          setSelected(record);
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
        justDragged.current = true;
        setTimeout(() => (justDragged.current = false), 0);
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
    [proposalsFor, layout, preview, edit, tell],
  );

  const touched = useMemo(() => {
    const made = new Set(drawing?.touched ?? []);
    for (const endpoint of made) {
      const adapter = book.get("adapter", endpoint);
      if (adapter) made.add(adapter.guest);
    }
    return made;
  }, [drawing, book]);
  const broken = useMemo(
    () => new Set(drawing?.breaks.filter((b) => b.kind !== "open").map((b) => b.at) ?? []),
    [drawing],
  );
  const targets = useMemo(() => new Set(drag ? drag.proposals.keys() : []), [drag]);
  const scene: Scene = {
    book,
    endpoints,
    ofHost,
    segmentOf,
    numberOf,
    follow,
    touched,
    broken,
    selected: panel || drag ? selected : null,
    targets,
    over: drag?.over ?? null,
    select,
    grab,
  };
  const style = follow ? segmentStyle(numberOf.get(follow.id) ?? 0) : null;
  const selectedRect = panel && selected ? rectOf(selected) : null;

  const picked = useMemo(() => picks.filter((id) => book.byId.has(id)), [picks, book]);
  /** Pick a record, or let it go; a record of another kind begins anew. */
  const pick = (record: string, all: boolean): void => {
    const kind = book.byId.get(record)?.kind;
    setPanel(null);
    setPicks((now) => {
      const kept = now.filter((id) => book.byId.get(id)?.kind === kind);
      const more = all ? namesakes(book, [record]) : [record];
      return !all && kept.includes(record) ? kept.filter((id) => id !== record) : [...new Set([...kept, ...more])];
    });
  };
  const many = (): void => setPanel("many");

  const onClickCapture = (event: React.MouseEvent): void => {
    const record = (event.target as HTMLElement).closest<HTMLElement>("[data-id]")?.dataset.id;
    if (!record || !(event.ctrlKey || event.shiftKey || event.metaKey)) return;
    event.preventDefault();
    event.stopPropagation();
    pick(record, false);
  };

  const onKeyDown = (event: React.KeyboardEvent): void => {
    const record = (event.target as HTMLElement).closest<HTMLElement>("[data-id]")?.dataset.id;
    if (!record || event.ctrlKey || event.metaKey || event.altKey || (event.target as HTMLElement).tagName === "INPUT")
      return;
    const sw = switchOf(book, record);
    const host = hostOf(book, record);
    if (event.key.toLowerCase() === "x" && book.byId.has(record)) {
      event.preventDefault();
      pick(record, event.shiftKey);
    } else if (event.key.toLowerCase() === "e" && picked.length) {
      event.preventDefault();
      many();
    } else if (event.key.toLowerCase() === "n" && host) {
      event.preventDefault();
      build(host, null);
    } else if (event.key.toLowerCase() === "g" && sw) {
      event.preventDefault();
      build(sw.host, sw.id);
    } else if (event.key.toLowerCase() === "c" && host) {
      event.preventDefault();
      compare(host);
    } else if (event.key.toLowerCase() === "m" && book.get("adapter", record)) {
      event.preventDefault();
      select(record);
    } else if (event.key.toLowerCase() === "f") {
      const segment =
        endpoints.get(record)?.tags[0]?.belongs ?? segmentOf.get(book.get("port_group", record)?.vid ?? -1)?.id;
      if (segment) setFollow(segment);
    }
  };

  if (one && two)
    return (
      <Beside
        left={one}
        right={two}
        choose={setBeside}
        close={() => setBeside(null, null)}
        open={(id) => setParams({ at: id })}
      />
    );
  if (!book.records.host.length) {
    return (
      <div className="empty-state">
        <h2>This plan has no hosts</h2>
        <p>
          A plan begins with what is there:{" "}
          <Link className="plain-link" to="/plans/read">
            read the state of real hosts
          </Link>
          , import a plan file from the{" "}
          <Link className="plain-link" to="/plans">
            list of plans
          </Link>
          , or begin with the first host here.
        </p>
        {panel === "sheet" ? (
          <div className="empty-panel">
            <Sheet close={() => setPanel(null)} open={open} />
          </div>
        ) : panel === "panel" && selected ? (
          <div className="empty-panel">
            <RecordPanel
              key={selected}
              id={selected}
              close={() => setPanel("sheet")}
              open={open}
              build={build}
              compare={compare}
            />
          </div>
        ) : (
          <button type="button" className="solid" onClick={() => setPanel("sheet")}>
            Add the first host
          </button>
        )}
      </div>
    );
  }
  const reasons = drawing?.breaks.filter((b) => b.reason) ?? [];
  const below = reasons.filter((b) => !b.fabric);
  const widths = below.map((b) => Math.min(330, brief(b.reason).length * 6 + 20));
  const stacked = stackReasons(
    below.map((b, n) => ({ x: b.x, width: widths[n]! })),
    { left: view.left, right: view.left + view.width },
    layout.width,
  );
  return (
    <div className="decks">
      <div className="follow" role="toolbar" aria-label="Follow a segment">
        <span className="follow-label">Follow</span>
        <div className="chips" ref={chips}>
          {segments.map((segment, n) => {
            const { color, dash } = segmentStyle(n);
            const on = follow?.id === segment.id;
            return (
              <button
                key={segment.id}
                type="button"
                className="chip"
                aria-pressed={on}
                style={{ "--seg": color } as React.CSSProperties}
                onClick={() => setFollow(on ? null : segment.id)}
              >
                <svg width="13" height="6" aria-hidden>
                  <path d="M0 3h13" stroke={color} strokeWidth="3" strokeDasharray={dash} />
                </svg>
                {segment.name}
                <span className="mono">{segment.vid ?? (segment.vni ? `VNI ${segment.vni}` : "untagged")}</span>
              </button>
            );
          })}
        </div>
        <button
          type="button"
          className="chip add"
          aria-expanded={panel === "sheet"}
          title="A host, a fabric switch, a segment, a rule"
          onClick={() => setPanel(panel === "sheet" ? null : "sheet")}
        >
          + Add
        </button>
        {book.records.host.length > 6 && (
          <input
            className="host-filter"
            placeholder="Filter hosts"
            aria-label="Filter hosts by name or site"
            value={filter}
            onChange={(e) => setFilter(e.target.value)}
          />
        )}
      </div>
      <PickBar picked={picked} pick={setPicks} open={many} />
      <div
        className={follow ? "canvas following" : "canvas"}
        ref={scroller}
        onKeyDown={onKeyDown}
        onClickCapture={onClickCapture}
        onPointerDown={() => setPanel(null)}
      >
        {!hosts.length && (
          <div className="empty-state">
            <h2>No host matches “{filter}”</h2>
            <button type="button" className="panel-link" onClick={() => setFilter("")}>
              Show all {book.records.host.length}
            </button>
          </div>
        )}
        {hosts.length > 0 && (
          <div className="canvas-inner" style={{ width: layout.width, height: layout.height }}>
            <svg className="lines under" width={layout.width} height={layout.height} aria-hidden>
              {visible.flatMap((c) =>
                c.nics
                  .filter((n) => n.far)
                  .map((n) => {
                    const port = book.get("fabric_port", n.far);
                    const bar = port ? layout.barOf.get(port.switch) : undefined;
                    return (
                      <g key={n.id} stroke="var(--line-strong)" fill="none">
                        <path d={`M${n.drop} ${n.y + n.h}V${n.below.y}`} strokeWidth="4" opacity="0.6" />
                        {bar && (
                          <path d={rounded([...n.exit, [n.exit.at(-1)![0], bar.y]])} strokeWidth="1" opacity="0.7" />
                        )}
                      </g>
                    );
                  }),
              )}
              {layout.trunks.map((t) => (
                <path
                  key={t.cable}
                  d={rounded(t.points)}
                  stroke="var(--line-strong)"
                  strokeWidth={t.cable in blocked ? 1.5 : 3}
                  strokeDasharray={t.cable in blocked ? "3 4" : undefined}
                  fill="none"
                />
              ))}
            </svg>
            {visible.map((column) => (
              <section key={column.host} aria-label={`Host ${book.get("host", column.host)?.name ?? ""}`}>
                {!column.collapsed && (
                  <div className="column" style={{ left: column.x, width: column.w, height: layout.decks.floor - 2 }} />
                )}
                <HostHead
                  scene={scene}
                  open={() => select(column.host)}
                  column={column}
                  toggle={() =>
                    setFolded((now) => {
                      const next = new Set(now);
                      if (!next.delete(column.host)) next.add(column.host);
                      return next;
                    })
                  }
                />
                {!column.collapsed && (
                  <>
                    {!column.guests.length && (
                      <span
                        className="deck-name"
                        style={{ left: column.x + 16, top: layout.decks.guests, width: column.w - 32 }}
                      >
                        No guests on this host: + makes one.
                      </span>
                    )}
                    {!column.switches.length && (
                      <span
                        className="deck-name"
                        style={{ left: column.x + 16, top: layout.decks.switches, width: column.w - 32 }}
                      >
                        No switch yet: press N, or + above, to take NICs and make one.
                      </span>
                    )}
                    {!column.nics.length && (
                      <span
                        className="deck-name"
                        style={{ left: column.x + 16, top: layout.decks.nics + 20, width: column.w - 32 }}
                      >
                        No NICs: + puts them in.
                      </span>
                    )}
                    {column.guests.map((g) => (
                      <GuestCard key={g.id} scene={scene} id={g.id} rect={g} />
                    ))}
                    {column.guests.flatMap((g) =>
                      g.adapters.map((a, n) => (
                        <AdapterTab key={a.id} scene={scene} id={a.id} rect={a} order={n} level={g.level} />
                      )),
                    )}
                    {column.switches.map((s) => (
                      <SwitchFrame key={s.id} scene={scene} box={s} />
                    ))}
                    {column.switches.flatMap((s) => s.slots.map((b) => <Slot key={b.id} scene={scene} box={b} />))}
                    {column.switches.flatMap((s) =>
                      s.ports.map((b) => <HostPortPill key={b.id} scene={scene} box={b} />),
                    )}
                    {column.teams.map((t, n) => (
                      <Team key={`${t.id} ${n}`} scene={scene} label={t} />
                    ))}
                    {column.nics.map((n) => (
                      <Nic key={n.id} scene={scene} box={n} />
                    ))}
                    {column.nics.map((n) => (
                      <FarEnd key={n.id} scene={scene} box={n} />
                    ))}
                  </>
                )}
              </section>
            ))}
            <section aria-label="Fabric">
              {layout.bars.map((bar) => (
                <FabricBar key={bar.id} scene={scene} bar={bar} root={roots.has(bar.id)} />
              ))}
              {layout.bars.flatMap((bar) =>
                bar.sockets.map((s) => <Socket key={s.id} scene={scene} id={s.id} rect={s} />),
              )}
              {layout.bars.map((bar) => (
                <MorePorts key={bar.id} scene={scene} bar={bar} />
              ))}
              {layout.trunks.flatMap((t) =>
                (
                  [
                    [t.a, t.b],
                    [t.b, t.a],
                  ] as const
                ).map(([end, other]) => (
                  <TrunkEnd
                    key={`${t.cable} ${end.port}`}
                    scene={scene}
                    end={end}
                    other={other}
                    blocked={blocked[t.cable] === end.bar}
                  />
                )),
              )}
            </section>
            {drawing && style && (
              <svg className="lines" width={layout.width} height={layout.height} aria-hidden>
                {drawing.strokes
                  .filter((s) => s.state !== "carries")
                  .map((s, n) => (
                    <path
                      key={n}
                      d={rounded(s.points)}
                      fill="none"
                      stroke={style.color}
                      strokeWidth="2"
                      strokeDasharray="5 4"
                    />
                  ))}
                {drawing.strokes
                  .filter((s) => s.state === "carries")
                  .map((s, n) => (
                    <path
                      key={n}
                      d={rounded(s.points)}
                      fill="none"
                      stroke={style.color}
                      strokeWidth="3"
                      strokeLinecap="round"
                    />
                  ))}
                {below.map((b, n) =>
                  b.kind === "open" ? null : (
                    <path
                      key={n}
                      d={`M${b.x} ${bottomOf(layout, b)}V${layout.reasons + stacked[n]!.row * 22}`}
                      stroke="var(--v-exposed)"
                      strokeWidth="1"
                      strokeDasharray="2 2"
                    />
                  ),
                )}
                {drawing.breaks.map((b) => (
                  <g key={`${b.at} ${b.reason}`} transform={`translate(${b.x} ${b.y})`}>
                    <circle
                      r="6.5"
                      fill="var(--sheet)"
                      stroke={b.kind === "open" ? "var(--v-unproven)" : "var(--v-exposed)"}
                      strokeWidth="2"
                      strokeDasharray={b.kind === "open" ? "3 2" : undefined}
                    />
                    {b.kind !== "open" && (
                      <path d="M-2.6-2.6 2.6 2.6M2.6-2.6-2.6 2.6" stroke="var(--v-exposed)" strokeWidth="2" />
                    )}
                  </g>
                ))}
              </svg>
            )}
            {below.map((b, n) => (
              <div
                key={`${b.at} ${b.reason}`}
                className={b.kind === "open" ? "reason open" : "reason"}
                style={{ left: stacked[n]!.left, top: layout.reasons + stacked[n]!.row * 22, maxWidth: widths[n] }}
                title={b.reason}
              >
                {brief(b.reason)}
              </div>
            ))}
            {reasons
              .filter((b) => b.fabric)
              .map((b, n) => (
                <div
                  key={`${b.at} ${b.reason}`}
                  className="reason"
                  style={{
                    left: Math.max(8, Math.min(b.x - 60, layout.width - 320)),
                    top: b.y + BAR.h / 2 + 4 + n * 21,
                    maxWidth: 330,
                  }}
                  title={b.reason}
                >
                  {brief(b.reason)}
                </div>
              ))}
            {picked.map((id) => {
              const r = rectOf(id);
              const column = layout.columnOf.get(id);
              return r && (!column || inSight.has(column.host)) ? (
                <div key={id} className="picked-mark" style={place(r)} />
              ) : null;
            })}
            {drag &&
              [...drag.proposals.keys()].map((key) => {
                const r = rectOf(key);
                const column = layout.columnOf.get(key);
                if (!r || (column && !inSight.has(column.host))) return null;
                return (
                  <DropOutcome
                    key={key}
                    rect={r}
                    result={outcomes.get(key)}
                    endpoint={book.get("adapter", drag.id) ? drag.id : null}
                    now={endpoints.get(drag.id)?.verdict ?? "home"}
                  />
                );
              })}
            {selectedRect && selected && panel === "tag" && (
              <TagInPlace
                key={selected}
                id={selected}
                rect={selectedRect}
                left={bubbleLeft(selectedRect, view)}
                close={close}
                more={() => setPanel("panel")}
              />
            )}
            {selectedRect && selected && panel === "panel" && (
              <InSight className="panel-place" style={panelPlace(selectedRect, layout, view)}>
                <RecordPanel key={selected} id={selected} close={close} open={open} build={build} compare={compare} />
              </InSight>
            )}
            {selectedRect && selected && panel === "build" && (
              <InSight className="panel-place wide" style={buildPlace(selectedRect, layout, view)}>
                <Build
                  key={selected}
                  host={onto ? book.get("virtual_switch", onto)!.host : selected}
                  onto={onto}
                  close={close}
                />
              </InSight>
            )}
            {panel === "many" && picked.length > 0 && (
              <InSight className="panel-place wide" style={{ left: view.left + Math.max(8, view.width - 396), top: 8 }}>
                <ManyPanel key={picked.join(" ")} ids={[...picked]} close={() => setPanel(null)} />
              </InSight>
            )}
            {panel === "sheet" && (
              <InSight className="panel-place wide" style={{ left: view.left + Math.max(8, view.width - 396), top: 8 }}>
                <Sheet close={() => setPanel(null)} open={open} />
              </InSight>
            )}
            {panel === "panel" && selected && !selectedRect && (
              <InSight className="panel-place wide" style={{ left: view.left + Math.max(8, view.width - 396), top: 8 }}>
                <RecordPanel
                  key={selected}
                  id={selected}
                  close={() => setPanel(null)}
                  open={open}
                  build={build}
                  compare={compare}
                />
              </InSight>
            )}
          </div>
        )}
      </div>
      {drag && (
        <div className="ghost" style={{ left: drag.x + 12, top: drag.y + 10 }}>
          {(book.get("adapter", drag.id) ?? book.get("nic", drag.id))?.name ??
            `cable of ${book.get("nic", book.far.get(drag.id)?.id)?.name ?? ""}`}
        </div>
      )}
    </div>
  );
}

/** Where the port ends at which a strand breaks. */
function bottomOf(layout: Layout, broken: { at: string; y: number }): number {
  const port = layout.above.get(broken.at)?.below;
  return port ? port.y + port.h : broken.y + 8;
}

function locate(layout: Layout, record: string): Rect | null {
  const adapter = layout.adapterOf.get(record);
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

/** Under what was chosen, or over it where there is no room; always inside what is in sight. */
function panelPlace(rect: Rect, layout: Layout, view: { left: number; width: number }): React.CSSProperties {
  const left = Math.max(view.left + 8, Math.min(rect.x, view.left + view.width - PANEL_WIDTH - 12));
  return rect.y > layout.height - 300
    ? { left, bottom: layout.height - rect.y + 6 }
    : { left, top: rect.y + rect.h + 6 };
}

/** A panel on the drawing, which scrolls so far that all of it can be seen, also once more fields are shown in it. */
function InSight({ children, ...rest }: { className: string; style: React.CSSProperties; children: React.ReactNode }) {
  const place = useRef<HTMLDivElement>(null);
  useEffect(() => {
    const node = place.current!;
    const observer = new ResizeObserver(() => node.scrollIntoView({ block: "nearest", inline: "nearest" }));
    observer.observe(node);
    return () => observer.disconnect();
  }, []);
  return (
    <div ref={place} {...rest}>
      {children}
    </div>
  );
}

/**
 * Do something with a part of the drawing once it is in the page: its column comes there after the drawing has
 * scrolled, sooner or later.
 */
function onceThere(drawing: HTMLElement | null, id: string, act: (node: HTMLElement) => void): () => void {
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

/**
 * Beside the column where something is built, so that the drawing stays in sight; under its head where there is no
 * room.
 */
function buildPlace(rect: Rect, layout: Layout, view: { left: number; width: number }): React.CSSProperties {
  const right = rect.x + rect.w + 12;
  const left = right + 388 < view.left + view.width ? right : rect.x - 396 > view.left ? rect.x - 396 : view.left + 8;
  return { left, top: Math.max(40, Math.min(rect.y, layout.height - 420)) };
}

function bubbleLeft(rect: Rect, view: { left: number; width: number }): number {
  return Math.max(view.left + 4, Math.min(rect.x - 40, view.left + view.width - BUBBLE_WIDTH - 26));
}

function DropOutcome({
  rect,
  result,
  endpoint,
  now,
}: {
  rect: Rect;
  result: PreviewResult | undefined;
  endpoint: string | null;
  now: Verdict;
}) {
  const becomes = endpoint ? outcome(result, endpoint, now) : null;
  const worse = result?.moves.filter((m) => m.after !== "home").length ?? 0;
  const better = result?.moves.filter((m) => m.after === "home").length ?? 0;
  return (
    <div
      className="slot-outcome"
      style={
        endpoint
          ? { left: rect.x + rect.w - 76, top: rect.y + 3, width: 73, height: rect.h - 6 }
          : { left: rect.x + 2, top: rect.y + rect.h - 19, width: rect.w - 4 }
      }
    >
      {!result ? (
        "…"
      ) : endpoint ? (
        becomes ? (
          <>
            <VerdictMark mark={becomes} size={9} /> {becomes}
          </>
        ) : (
          "not possible"
        )
      ) : (
        `${better} home, ${worse} not`
      )}
    </div>
  );
}

const TAG: FieldSpec[] = [{ name: "vid", label: "Tag", kind: "vid" }];

/** The tag of a port group, typed over in its slot; what would move is said beneath. */
function TagInPlace({
  id,
  rect,
  left,
  close,
  more,
}: {
  id: string;
  rect: Rect;
  left: number;
  close: () => void;
  more: () => void;
}) {
  const { book, edit, snapshot } = usePlan();
  const group = book.get("port_group", id);
  const { draft, put, clashes, followed, settle } = useDraft(TAG, { vid: group?.vid });
  const by = snapshot.authors.get(id) ?? "Somebody";
  const text = String(draft.vid);
  const vid = readVid(text);
  const fits = vid !== null;
  const changed = fits && vid !== group?.vid;
  const operations = [{ op: "patch" as const, kind: "port_group" as const, id, set: { vid } }];
  const { results } = usePreviews([operations], changed);
  if (!group) return null;
  return (
    <div onPointerDown={(e) => e.stopPropagation()}>
      <input
        className="tag-input mono"
        style={place(rect)}
        aria-label={`Tag of port group ${group.name}`}
        value={text}
        inputMode="numeric"
        autoFocus
        onFocus={(e) => e.target.select()}
        onChange={(e) => put("vid", e.target.value)}
        onKeyDown={(e) => {
          if (e.key === "Escape") close();
          if (e.key === "Enter" && !changed && fits && !clashes.length) close();
          if (e.key === "Enter" && changed && !clashes.length)
            void edit(`Tag port group ${group.name} ${vid}`, operations).then((made) => made && close());
        }}
      />
      <div className="bubble" style={{ left, top: rect.y + rect.h + 4, width: BUBBLE_WIDTH }} role="status">
        {clashes.map((clash) => (
          <Clashing key={clash.field.name} clash={clash} by={by} settle={(mine) => settle(clash, mine)} />
        ))}
        {followed.length > 0 && <p className="outcome quiet">{by} changed it while it was open.</p>}
        {!fits ? (
          <p className="outcome bad">A VID is a number from 1 to 4094.</p>
        ) : changed ? (
          <Outcome result={results?.[0]} />
        ) : (
          <p className="outcome">Type another VID.</p>
        )}
        <p className="panel-keys">
          {clashes.length ? "Say first which tag is meant; Esc leaves it" : "Enter takes it, Esc leaves it"}
        </p>
        <button type="button" className="panel-link" onClick={more}>
          All that it allows and limits
        </button>
      </div>
    </div>
  );
}
