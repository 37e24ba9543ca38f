import { Fragment, memo, useMemo, useRef, useState, type KeyboardEvent } from "react";

import type { Endpoint } from "../api/client";
import { segmentStyle, type Book } from "../model/records";
import type { Mark } from "../model/verdicts";
import { Shape } from "../parts/VerdictMark";
import {
  BAR,
  fabricBand,
  layFleet,
  racksOf,
  standingOf,
  waysOf,
  WIRES,
  type FabricBand,
  type Placed,
  type Standing,
  type Way,
} from "./fleet";
import type { Following } from "./useFollow";

/** A host that is this wide, in pixels, has room for its name. */
const NAMED = 14;
const NONE: ReadonlyMap<string, Way> = new Map();
const NOBODY: readonly Endpoint[] = [];

/** Every host a small mark with its verdicts, by site and rack; what is followed, or asked for, stands out. */
export function Fleet({
  book: whole,
  ofHost,
  following: { follow, numberOf, pieces },
  asked,
  width,
  height,
  enter,
}: {
  book: Book;
  /** The endpoints of each host, by its name. */
  ofHost: ReadonlyMap<string, readonly Endpoint[]>;
  following: Following;
  /** The hosts that are asked for; null: all of them. */
  asked: ReadonlySet<string> | null;
  width: number;
  height: number;
  enter: (host: string) => void;
}) {
  const book = useWired(whole);
  const racks = useMemo(() => racksOf(book), [book]);
  const band = useMemo(
    () => fabricBand(book, racks, (follow && pieces) ?? null, width),
    [book, racks, follow, pieces, width],
  );
  const below = band ? BAND_HEAD + band.deep : 0;
  const layout = useMemo(() => layFleet(racks, width, height - below), [racks, width, height, below]);
  const standings = useMemo(
    () => new Map(book.records.host.map((host) => [host.id, standingOf(ofHost.get(host.name) ?? NOBODY)])),
    [book, ofHost],
  );
  const ways = useMemo(() => (follow && pieces ? waysOf(whole, pieces) : null), [whole, follow, pieces]);
  const order = useMemo(() => layout.racks.flatMap((rack) => rack.hosts), [layout]);
  const [current, setCurrent] = useState<string | null>(null);
  const drawing = useRef<SVGSVGElement>(null);
  const at = current && order.includes(current) ? current : order[0];
  const go = (host: string | undefined): void => {
    if (!host) return;
    setCurrent(host);
    drawing.current?.querySelector<SVGElement>(`[data-host="${CSS.escape(host)}"]`)?.focus();
  };
  const onKeyDown = (event: KeyboardEvent): void => {
    const n = order.indexOf(at ?? "");
    const rack = layout.racks.findIndex((r) => r.hosts.includes(at ?? ""));
    const steps: Record<string, string | undefined> = {
      ArrowRight: order[n + 1],
      ArrowLeft: order[n - 1],
      ArrowDown: layout.racks[rack + 1]?.hosts[0],
      ArrowUp: layout.racks[rack - 1]?.hosts[0],
      Home: order[0],
      End: order.at(-1),
    };
    if ((event.key === "Enter" || event.key === " ") && at) enter(at);
    else if (event.key in steps) go(steps[event.key]);
    else return;
    event.preventDefault();
    event.stopPropagation();
  };
  const color = follow ? segmentStyle(numberOf.get(follow.id) ?? 0).color : "";
  return (
    <svg
      ref={drawing}
      className="fleet"
      width={layout.width}
      height={layout.height + below}
      role="group"
      aria-label="The fleet by site and rack"
      onKeyDown={onKeyDown}
    >
      {layout.sites.map((site) => (
        <text key={site.name} x={site.x} y={site.y + 12} className="fleet-site">
          {site.name || (layout.sites.length > 1 ? "no site said" : "")}
          <tspan className="fleet-count" dx="8">
            {site.hosts.toLocaleString("en")} {site.hosts === 1 ? "host" : "hosts"}
          </tspan>
        </text>
      ))}
      {layout.racks.map((rack) => (
        <RackMark
          key={rack.key}
          rack={rack}
          pitch={layout.pitch}
          high={layout.high}
          book={book}
          standings={standings}
          ways={ways}
          asked={asked}
          color={color}
          current={at !== undefined && rack.hosts.includes(at) ? at : null}
          enter={enter}
        />
      ))}
      {band && <Between band={band} book={book} top={layout.height} color={color} following={ways !== null} />}
    </svg>
  );
}

/** What the drawing is made of, beside verdicts and what is followed. */
const WIRED = ["host", "nic", "cable", "fabric_port", "fabric_switch"] as const;

/** The same book for as long as none of these differs. */
function useWired(book: Book): Book {
  const [kept, setKept] = useState(book);
  if (kept === book || WIRED.every((kind) => kept.records[kind] === book.records[kind])) return kept;
  setKept(book);
  return book;
}

/** The fabric between the racks: each switch, and what joins it to others; the followed segment over it. */
function Between({
  band,
  book,
  top,
  color,
  following,
}: {
  band: FabricBand;
  book: Book;
  top: number;
  color: string;
  following: boolean;
}) {
  const line = BAND_HEAD - BAR;
  return (
    <g transform={`translate(0 ${top})`} role="group" aria-label="Cables between switches">
      <text x="12" y="11" className="fleet-site">
        Between switches
        <tspan className="fleet-count" dx="8">
          {band.links.reduce((sum, link) => sum + link.cables, 0).toLocaleString("en")} cables
        </tspan>
      </text>
      {band.links.map(({ key, a, b, cables, deep, way, names }) => {
        const dropped = way === "dropped";
        const says = way && WAY_SAYS[way];
        return (
          <g key={key} role="img" aria-label={`${names}: ${cables}${says ? `, ${says}` : ""}`}>
            <title>{`${names}: ${cables} ${cables === 1 ? "cable" : "cables"}${says ? `, ${says}` : ""}`}</title>
            <path
              d={`M${a} ${BAND_HEAD}C${a} ${BAND_HEAD + deep * 1.3} ${b} ${BAND_HEAD + deep * 1.3} ${b} ${BAND_HEAD}`}
              fill="none"
              className={way || !following ? "fleet-arc" : "fleet-arc back"}
              stroke={way ? (dropped ? "var(--v-stranded)" : color) : "var(--line-strong)"}
              strokeWidth={Math.min(4, 0.6 + cables * 0.6)}
              strokeDasharray={way === "reserve" ? "3 3" : undefined}
            />
            {dropped && (
              <path
                d={`M${(a + b) / 2 - 4} ${BAND_HEAD + deep - 4}l8 8m0 -8l-8 8`}
                stroke="var(--v-stranded)"
                strokeWidth="1.8"
                fill="none"
              />
            )}
          </g>
        );
      })}
      {band.switches.map(({ id, x, w }) => (
        <g key={id}>
          <title>{book.get("fabric_switch", id)?.name}</title>
          <rect x={x} y={line} width={w} height={BAR} rx="2" className="fleet-switch" />
          {w >= NAMED_SWITCH && (
            <text x={x + w / 2} y={line - 4} textAnchor="middle" className="fleet-fabric-name">
              {shortened(book.get("fabric_switch", id)?.name ?? id, w)}
            </text>
          )}
        </g>
      ))}
    </g>
  );
}

/** A switch that is this wide, in pixels, has room for its name. */
const NAMED_SWITCH = 40;
/** Above the arcs: a heading, the names of switches, and their bars. */
const BAND_HEAD = 42;
const WAY_SAYS: Readonly<Record<Way, string>> = {
  carries: "carries the segment",
  reserve: "carries it after a failover",
  dropped: "drops it",
  open: "carries it to an open end",
  leaks: "carries it into another VID",
};

const shortened = (name: string, width: number): string => {
  const most = Math.floor(width / 5.6);
  return name.length > most ? `${name.slice(0, most - 1)}…` : name;
};

interface RackProps {
  rack: Placed;
  pitch: number;
  high: number;
  book: Book;
  standings: ReadonlyMap<string, Standing>;
  ways: ReadonlyMap<string, ReadonlyMap<string, Way>> | null;
  asked: ReadonlySet<string> | null;
  color: string;
  current: string | null;
  enter: (host: string) => void;
}

/** A rack is drawn anew where something of its own hosts differs, not where anything does. */
const sameRack = (before: RackProps, now: RackProps): boolean =>
  (Object.keys(now) as (keyof RackProps)[]).every(
    (prop) => prop === "standings" || prop === "ways" || before[prop] === now[prop],
  ) &&
  (before.ways === null) === (now.ways === null) &&
  now.rack.hosts.every(
    (host) =>
      before.standings.get(host) === now.standings.get(host) && sameWays(before.ways?.get(host), now.ways?.get(host)),
  );

const sameWays = (before: ReadonlyMap<string, Way> | undefined, now: ReadonlyMap<string, Way> | undefined): boolean =>
  before?.size === now?.size && [...(now ?? [])].every(([to, way]) => before?.get(to) === way);

const RackMark = memo(function RackMark(props: RackProps) {
  const { rack, pitch, high, book, standings, ways, asked, color, current, enter } = props;
  const bar = (n: number): number => high + WIRES + n * (BAR + 3);
  return (
    <g transform={`translate(${rack.x} ${rack.y})`}>
      {rack.switches.map((id, n) => {
        const lit = ways !== null && rack.hosts.some((host) => ways.get(host)?.has(id));
        return (
          <g key={id}>
            <title>{book.get("fabric_switch", id)?.name}</title>
            <rect x="0" y={bar(n)} width={rack.w} height={BAR} rx="2" className="fleet-switch" />
            {lit && <path d={`M4 ${bar(n) + BAR / 2}H${rack.w - 4}`} stroke={color} strokeWidth="2" />}
          </g>
        );
      })}
      {rack.hosts.map((host, n) => {
        const own = ways?.get(host);
        // What is asked for stands out whether or not the followed segment is there.
        const back = asked !== null ? !asked.has(host) : ways !== null && own === undefined;
        const name = book.get("host", host)?.name ?? host;
        const standing = standings.get(host)!;
        const told = `${name}: ${standing.told || "no endpoints"}`;
        return (
          <g
            key={host}
            transform={`translate(${2 + n * pitch} 0)`}
            className={back ? "fleet-host back" : "fleet-host"}
            role="button"
            tabIndex={host === current ? 0 : -1}
            aria-label={told}
            data-host={host}
            onClick={() => enter(host)}
          >
            <title>{told}</title>
            <Lines ways={own ?? NONE} switches={rack.switches} pitch={pitch} high={high} bar={bar} color={color} />
            <HostMark standing={standing} pitch={pitch} high={high} />
            {pitch >= NAMED && (
              <text className="fleet-name" transform={`translate(${pitch / 2 + 2} ${high - 5}) rotate(-90)`}>
                {name.length > 14 ? `${name.slice(0, 13)}…` : name}
              </text>
            )}
          </g>
        );
      })}
    </g>
  );
}, sameRack);

/** From a host down to its switches; the followed segment over them, and where it is dropped. */
function Lines({
  ways,
  switches,
  pitch,
  high,
  bar,
  color,
}: {
  ways: ReadonlyMap<string, Way>;
  switches: readonly string[];
  pitch: number;
  high: number;
  bar: (n: number) => number;
  color: string;
}) {
  const step = (pitch - 3) / (switches.length + 1);
  const at = (n: number): number => step * (n + 1);
  // All over which nothing is followed are one path: there are thousands.
  const plain = switches.map((id, n) => (ways.has(id) ? "" : `M${at(n)} ${high}V${bar(n)}`)).join("");
  return (
    <>
      {plain && <path d={plain} className="fleet-wire" stroke="var(--line)" strokeWidth={1} />}
      {switches.map((id, n) => {
        const way = ways.get(id);
        if (!way) return null;
        const dropped = way === "dropped";
        return (
          <Fragment key={id}>
            <path
              d={`M${at(n)} ${high}V${dropped ? high + WIRES - 4 : bar(n)}`}
              className="fleet-wire"
              stroke={dropped ? "var(--v-stranded)" : color}
              strokeWidth={1.6}
              strokeDasharray={way === "reserve" ? "2 2" : undefined}
            />
            {dropped && (
              <path
                d={`M${at(n) - 2} ${high + WIRES - 5}l4 4m0 -4l-4 4`}
                stroke="var(--v-stranded)"
                strokeWidth="1.3"
                fill="none"
              />
            )}
          </Fragment>
        );
      })}
    </>
  );
}

/** A host: its frame, what share of its endpoints fares how, from the bottom, and the shape of the worst. */
function HostMark({ standing, pitch, high }: { standing: Standing; pitch: number; high: number }) {
  const width = pitch - 2;
  const size = Math.min(width, 12);
  const top = size + 1;
  const room = high - top - 1;
  return (
    <>
      <rect x="0.5" y="0.5" width={width - 1} height={high - 1} rx="1.5" className="fleet-frame" />
      {barsOf(standing, room).map(({ mark, below, tall }) => (
        <rect
          key={mark}
          x="1.5"
          y={Math.max(top, high - 1 - below - tall)}
          width={Math.max(1, width - 3)}
          height={tall}
          fill={`var(--v-${mark})`}
          opacity={isCalm(mark) ? 0.28 : 1}
        />
      ))}
      {standing.worst && (
        <g transform={`translate(${(width - size) / 2} 1) scale(${size / 12})`}>
          <Shape mark={standing.worst} />
        </g>
      )}
    </>
  );
}

const isCalm = (mark: Mark): boolean => mark === "home" || mark === "idle";

/** How tall each verdict stands, and above what; whatever isn't well is seen even where it is one of many. */
function barsOf({ shares }: Standing, room: number): { mark: Mark; below: number; tall: number }[] {
  const made: { mark: Mark; below: number; tall: number }[] = [];
  let below = 0;
  for (const [mark, share] of shares) {
    const tall = isCalm(mark) ? share * room : Math.max(2, share * room);
    made.push({ mark, below, tall });
    below += tall;
  }
  return made;
}
