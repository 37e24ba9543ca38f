import "../decks/Decks.css";

import { Button } from "@chakra-ui/react";
import {
  useCallback,
  useDeferredValue,
  useLayoutEffect,
  useMemo,
  useRef,
  useState,
  type KeyboardEvent,
  type MouseEvent,
  type PointerEvent,
} from "react";
import { Link, useLocation, useSearchParams } from "react-router";

import { usePlan } from "../api/plan";
import { Beside } from "../decks/Beside";
import { DropOutcome } from "../decks/DropOutcome";
import { Cables, Fabric, Meters } from "../decks/Fabric";
import { Fleet } from "../decks/Fleet";
import { FollowBar, MOST_DRAWN } from "../decks/FollowBar";
import { HostColumn } from "../decks/HostColumn";
import { hostsInOrder, layouts, NOWHERE } from "../decks/layout";
import { PickBar } from "../decks/Many";
import { nextStep, type NextStep } from "../decks/nextStep";
import { NextStepBar } from "../decks/NextStepBar";
import { AtRecord, Opened, type Open } from "../decks/Opened";
import { place, type Scene } from "../decks/parts";
import { locate } from "../decks/places";
import { Sheet } from "../decks/Sheet";
import { scenes } from "../decks/scenes";
import { drawStrand, passedBy, sorted } from "../decks/strand";
import { StrandLines } from "../decks/StrandLines";
import { useDrag } from "../decks/useDrag";
import { segmentAt, useFollow, useTree } from "../decks/useFollow";
import { useLevel } from "../decks/useLevel";
import { usePicks } from "../decks/usePicks";
import { useViewport } from "../decks/useViewport";
import { useVisit } from "../decks/useVisit";
import { byPort } from "../load/said";
import { useWidths } from "../load/useLoad";
import { isEmpty, matcher, readQuery } from "../model/query";
import { hostOf, switchOf } from "../model/records";
import { inPanel, isTyping } from "../shell/keys";

/** Hosts in cross-section, the fabric beneath them, and one segment followed through everything. */
export function Decks() {
  const { id: plan, at: past, snapshot, book, tell } = usePlan();
  const [params, setParams] = useSearchParams();
  const scroller = useRef<HTMLDivElement>(null);
  const [folded, setFolded] = useState<ReadonlySet<string>>(new Set());
  const [unfolded, setUnfolded] = useState<ReadonlySet<string>>(new Set());
  const [filter, setFilter] = useState("");
  const [selected, setSelected] = useState<string | null>(null);
  const [panel, setPanel] = useState<Open | null>(null);
  const following = useFollow();
  const { numberOf, segmentOf, follow, setFollow, pieces } = following;
  const { roots, blocked } = useTree();
  const { picked, setPicks, pick: pickOne } = usePicks();

  const { endpoints, ofHost } = snapshot;
  const hosts = useMemo(() => {
    const asked = readQuery(filter);
    const all = hostsInOrder(book);
    if (isEmpty(asked)) return all;
    const { host } = matcher(asked, book, snapshot.summary.off);
    return all.filter((h) => host(h, ofHost.get(h.name) ?? []));
  }, [book, filter, ofHost, snapshot.summary.off]);
  const { level, setLevel, enter, onWheel } = useLevel(book);
  const far = level === "fleet";
  const sought = useMemo(() => (filter.trim() ? new Set(hosts.map((h) => h.id)) : null), [filter, hosts]);
  const [one, two] = (params.get("beside") ?? "").split(" ").map((h) => book.get("host", h)?.id);
  const view = useViewport(scroller, `${hosts.length > 0} ${Boolean(one && two)} ${level}`);
  const apart = level === "hosts" ? unfolded : null;
  const [arrange] = useState(layouts);
  const layout = useMemo(
    () => (far ? NOWHERE : arrange({ book, hosts, collapsed: folded, room: view.width, unfolded: apart })),
    [arrange, far, book, hosts, folded, view.width, apart],
  );

  // Only what is in sight is in the page: a thousand hosts scroll like four.
  // Scrolling doesn't wait for what comes into sight.
  const seen = useDeferredValue(view);
  const [from, to] = around(seen);
  const strand = useMemo(() => (follow && pieces ? sorted(layout, pieces) : null), [follow, pieces, layout]);
  const drawing = useMemo(() => strand && drawStrand(layout, strand, from, to), [strand, layout, from, to]);
  const begin = layout.columns.findIndex((c) => c.x + c.w > seen.left - BESIDE);
  const beyond = layout.columns.findLastIndex((c) => c.x < seen.left + seen.width + BESIDE);
  const visible = useMemo(() => layout.columns.slice(Math.max(begin, 0), beyond + 1), [layout, begin, beyond]);
  const inSight = useMemo(() => new Set(visible.map((c) => c.host)), [visible]);
  const widths = params.get("load") === "1" && book.records.flow.length > 0;
  const { data: sent } = useWidths(
    visible.map((c) => c.host),
    widths && !far,
  );
  const loaded = useMemo(() => (widths ? byPort(sent ?? []) : null), [widths, sent]);
  const shows = (record: string): boolean => {
    const column = layout.columnOf.get(record);
    return !column || inSight.has(column.host);
  };

  const close = useCallback(() => {
    setPanel(null);
    const node = selected ? scroller.current?.querySelector<HTMLElement>(`[data-id="${CSS.escape(selected)}"]`) : null;
    node?.focus({ preventScroll: true });
  }, [selected]);
  const open = useCallback((record: string, section?: string) => {
    setSelected(record);
    setPanel({ what: "panel", id: record, section });
  }, []);
  const build = useCallback((host: string, onto: string | null) => {
    setSelected(onto ?? host);
    setPanel({ what: "build", host, onto });
  }, []);
  const began = useCallback((record: string) => {
    setPanel(null);
    setSelected(record);
  }, []);
  const { drag, outcomes, targets, grab, justEnded } = useDrag(scroller, layout, began);
  const select = useCallback(
    (record: string) => {
      if (justEnded.current) return;
      open(record);
      if (book.get("port_group", record)?.mode === "access") setPanel({ what: "tag", id: record });
    },
    [book, open, justEnded],
  );
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
  /** Show the host of a part, if it is folded up or filtered out; and a guest, if those of its host are gathered. */
  const uncover = (record: string): void => {
    const host = hostOf(book, record);
    const guest = book.get("guest", record) ?? book.get("adapter", record);
    if (host && guest && apart && !apart.has(host)) setUnfolded(new Set([...apart, host]));
    if (host && folded.has(host)) setFolded(new Set([...folded].filter((h) => h !== host)));
    if (host && !hosts.some((h) => h.id === host)) setFilter("");
  };
  // A command of the finder may ask for something to be added.
  const showLoad = useCallback(
    (on: boolean): void =>
      setParams(
        (now) => {
          const next = new URLSearchParams(now);
          if (on) next.set("load", "1");
          else next.delete("load");
          return next;
        },
        { replace: true },
      ),
    [setParams],
  );
  const addSomething = useCallback(() => setPanel((now) => (now?.what === "sheet" ? null : { what: "sheet" })), []);
  const add = params.get("add");
  const { key } = useLocation();
  const [asked, setAsked] = useState("");
  if (add && asked !== key) {
    setAsked(key);
    setPanel({ what: "sheet", page: add });
  }
  useVisit(scroller, layout, view, uncover, open);
  const step = useMemo(() => nextStep(book), [book]);
  const takeStep = ({ open: next }: NextStep): void => {
    if ("page" in next) setPanel({ what: "sheet", page: next.page });
    else if ("build" in next) build(next.build, null);
    else open(next.record, next.section);
  };

  const [sameTouched] = useState(sameSet);
  const touched = useMemo(() => sameTouched(passedBy(pieces ?? [])), [sameTouched, pieces]);
  const [sameBroken] = useState(sameSet);
  const broken = useMemo(
    () => sameBroken(new Set(drawing?.breaks.flatMap((b) => (b.kind === "open" ? [] : b.at)))),
    [sameBroken, drawing],
  );
  // The hosts keep them while they aren't drawn anew.
  const acts = useRef({ select, grab });
  useLayoutEffect(() => {
    acts.current = { select, grab };
  }, [select, grab]);
  const [doers] = useState(() => ({
    select: (record: string) => acts.current.select(record),
    grab: (event: PointerEvent, record: string) => acts.current.grab(event, record),
  }));
  // The same for as long as nothing of it differs, so that what is in sight isn't drawn anew while it is scrolled.
  const lit = panel || drag ? selected : null;
  const off = useMemo(() => new Set(snapshot.summary.off), [snapshot.summary.off]);
  const over = drag?.over ?? null;
  const scene = useMemo<Scene>(
    () => ({
      book,
      endpoints,
      ofHost,
      segmentOf,
      numberOf,
      follow,
      touched,
      broken,
      off,
      selected: lit,
      targets,
      over,
      ...doers,
    }),
    [book, endpoints, ofHost, segmentOf, numberOf, follow, touched, broken, off, lit, targets, over, doers],
  );
  const [perHost] = useState(scenes);
  const sceneOf = useMemo(() => perHost(scene), [perHost, scene]);
  const toggle = useCallback((host: string) => setFolded((now) => toggled(now, host)), []);
  const gather = useCallback((host: string) => setUnfolded((now) => toggled(now, host)), []);
  const selectedRect = panel && selected ? locate(layout, selected) : null;
  const pick = (record: string, all: boolean): void => {
    setPanel(null);
    pickOne(record, all);
  };
  const many = (): void => setPanel({ what: "many" });

  const onClickCapture = (event: MouseEvent): void => {
    const record = recordAt(event.target);
    if (!record || !(event.ctrlKey || event.shiftKey || event.metaKey)) return;
    event.preventDefault();
    event.stopPropagation();
    pick(record, false);
  };
  const onKeyDown = (event: KeyboardEvent): void => {
    const typing = isTyping(event.target) || inPanel(event.target);
    if (event.key === "a" && !typing && !event.ctrlKey && !event.metaKey && !event.altKey) {
      event.preventDefault();
      setPanel({ what: "sheet" });
      return;
    }
    const record = recordAt(event.target);
    if (!record || event.ctrlKey || event.metaKey || event.altKey || (event.target as HTMLElement).tagName === "INPUT")
      return;
    const sw = switchOf(book, record);
    const host = hostOf(book, record);
    const acts: Record<string, (() => void) | false | undefined | null | ""> = {
      x: book.byId.has(record) && (() => pick(record, event.shiftKey)),
      e: picked.length > 0 && many,
      n: host && (() => build(host, null)),
      g: sw && (() => build(sw.host, sw.id)),
      c: host && (() => compare(host)),
      m:
        (book.get("adapter", record) && (() => select(record))) ||
        (book.get("guest", record) && (() => open(record, "Move"))),
      f: () => {
        const segment = segmentAt(book, endpoints, record);
        if (segment) setFollow(segment);
        else tell("No segment to follow from here: what is attached here belongs on none that the plan knows.");
      },
    };
    const act = acts[event.key.toLowerCase()];
    if (!act) return;
    event.preventDefault();
    act();
  };

  const dragged = !drag
    ? []
    : book.get("adapter", drag.id)
      ? [drag.id]
      : book.of("adapter", "guest", drag.id).map((adapter) => adapter.id);
  const chosen = hosts.length < book.records.host.length ? hosts.map((h): [string, string] => ["host", h.id]) : [];
  const asAt: [string, string][] = past === undefined ? [] : [["at", String(past)]];
  const drawn = `/api/plans/${plan}/decks-drawing?${String(new URLSearchParams([...chosen, ...asAt]))}`;
  const doing = { open, build, compare };
  if (one && two)
    return (
      <Beside
        left={one}
        right={two}
        choose={(side, id) => {
          // The address knows what was chosen last, even before it is drawn.
          const [left = one, right = two] = (new URLSearchParams(window.location.search).get("beside") ?? "").split(
            " ",
          );
          setBeside(side === "left" ? id : left, side === "right" ? id : right);
        }}
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
        {panel?.what === "sheet" ? (
          <div className="empty-panel">
            <Sheet page={panel.page} close={() => setPanel(null)} open={open} />
          </div>
        ) : panel?.what === "panel" ? (
          <div className="empty-panel">
            <AtRecord id={panel.id} section={panel.section} close={() => setPanel({ what: "sheet" })} {...doing} />
          </div>
        ) : (
          <Button size="sm" colorPalette="copper" mt="3" autoFocus onClick={() => step && takeStep(step)}>
            Add the first host
          </Button>
        )}
      </div>
    );
  }
  const opened = panel && (
    <Opened
      panel={panel}
      rect={selectedRect}
      layout={layout}
      view={view}
      picked={picked}
      close={close}
      leave={() => setPanel(null)}
      {...doing}
    />
  );
  return (
    <div className="decks" onKeyDown={onKeyDown}>
      <FollowBar
        following={following}
        adding={panel?.what === "sheet"}
        add={addSomething}
        hosts={book.records.host.length}
        filter={filter}
        setFilter={setFilter}
        level={level}
        setLevel={setLevel}
        widths={book.records.flow.length && !far ? widths : null}
        setWidths={showLoad}
        drawing={hosts.length && hosts.length <= MOST_DRAWN ? drawn : null}
      />
      {step && past === undefined && <NextStepBar step={step} idle={panel === null} take={() => takeStep(step)} />}
      <PickBar picked={picked} pick={setPicks} open={many} />
      <div
        className={follow ? "canvas following" : "canvas"}
        ref={scroller}
        onWheel={onWheel}
        onClickCapture={onClickCapture}
        onPointerDown={() => setPanel(null)}
      >
        {!hosts.length && (
          <div className="empty-state">
            <h2>No host matches “{filter}”</h2>
            <Button size="xs" variant="outline" onClick={() => setFilter("")}>
              Show all {book.records.host.length}
            </Button>
          </div>
        )}
        {hosts.length > 0 && far && (
          <>
            {view.height > 0 && (
              <Fleet
                book={book}
                ofHost={ofHost}
                following={following}
                asked={sought}
                width={view.width}
                height={view.height}
                enter={enter}
              />
            )}
            {opened && <div className="fleet-panel">{opened}</div>}
          </>
        )}
        {hosts.length > 0 && !far && (
          <div className="canvas-inner" style={{ width: layout.width, height: layout.height }}>
            <Cables layout={layout} columns={visible} blocked={blocked} load={loaded} />
            {visible.map((column) => (
              <HostColumn
                key={column.host}
                scene={sceneOf(column.host)}
                decks={layout.decks}
                column={column}
                toggle={toggle}
                gather={gather}
              />
            ))}
            {loaded && <Meters layout={layout} columns={visible} load={loaded} />}
            <Fabric scene={scene} layout={layout} from={from} to={to} roots={roots} blocked={blocked} />
            {drawing && follow && (
              <StrandLines layout={layout} drawing={drawing} number={numberOf.get(follow.id) ?? 0} view={view} />
            )}
            {picked.map((id) => {
              const rect = locate(layout, id);
              return rect && shows(id) ? <div key={id} className="picked-mark" style={place(rect)} /> : null;
            })}
            {drag &&
              [...drag.proposals.keys()].filter(shows).map((key) => {
                const rect = locate(layout, key);
                return rect ? (
                  <DropOutcome
                    key={key}
                    rect={rect}
                    result={outcomes.get(key)}
                    endpoints={dragged.map((id) => [id, endpoints.get(id)?.verdict ?? "home"])}
                    waiting={book.get("guest", drag.id) && key !== drag.over ? "move here" : "…"}
                  />
                ) : null;
              })}
            {opened}
          </div>
        )}
      </div>
      {drag && (
        <div className="ghost" style={{ left: drag.x + 12, top: drag.y + 10 }}>
          {(book.get("adapter", drag.id) ?? book.get("nic", drag.id) ?? book.get("guest", drag.id))?.name ??
            `cable of ${book.get("nic", book.far.get(drag.id)?.id)?.name ?? ""}`}
        </div>
      )}
    </div>
  );
}

/** Gives the set that it gave before for as long as it holds the same. */
function sameSet(): (set: ReadonlySet<string>) => ReadonlySet<string> {
  let last: ReadonlySet<string> = new Set();
  return (set) => {
    if (set.size !== last.size || ![...set].every((item) => last.has(item))) last = set;
    return last;
  };
}

/** So far beyond what is in sight, in pixels, lines and fabric are drawn; they are looked for as often as that. */
const AROUND = 640;

/** From where to where lines and fabric are drawn. */
const around = ({ left, width }: { left: number; width: number }): [number, number] => [
  (Math.floor(left / AROUND) - 1) * AROUND,
  (Math.ceil((left + width) / AROUND) + 1) * AROUND,
];

/** So far beyond what is in sight, in pixels, hosts are in the page. */
const BESIDE = 480;

/** The record that a part of the drawing stands for. */
const recordAt = (target: EventTarget): string | undefined =>
  (target as HTMLElement).closest<HTMLElement>("[data-id]")?.dataset.id;

function toggled(set: ReadonlySet<string>, item: string): ReadonlySet<string> {
  const next = new Set(set);
  if (!next.delete(item)) next.add(item);
  return next;
}
