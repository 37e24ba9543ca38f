import type { Endpoint, Piece } from "../api/client";
import { compareNames, hostOf, type Book } from "../model/records";
import { VERDICTS, type Mark } from "../model/verdicts";

/** Hosts that are plugged into the same fabric switches. */
export interface Rack {
  key: string;
  site: string;
  hosts: string[];
  switches: string[];
}

/** How a followed segment gets from a host to a switch. */
export type Way = Piece["state"];

/** Of several ways the gravest is told. */
const GRAVE: readonly Way[] = ["reserve", "carries", "open", "leaks", "dropped"];

function note(ways: Map<string, Way>, key: string, state: Way): void {
  const before = ways.get(key);
  if (!before || GRAVE.indexOf(state) > GRAVE.indexOf(before)) ways.set(key, state);
}

export interface Placed extends Rack {
  x: number;
  y: number;
  w: number;
}

export interface FleetLayout {
  /** From one host to the next, and how high each is drawn. */
  pitch: number;
  high: number;
  racks: Placed[];
  sites: { name: string; hosts: number; x: number; y: number }[];
  width: number;
  height: number;
}

export const WIRES = 12;
export const BAR = 7;
const GAP = 12;
const LABEL = 18;
/** Room for a site's name. */
const LABEL_WIDE = 150;
const PITCHES = [40, 32, 26, 22, 18, 16, 14, 13, 12, 11, 10, 9, 8, 7, 6, 5, 4.5, 4, 3.5, 3];

/** The hosts by site and rack: those without a cable stand in a rack of their own. */
export function racksOf(book: Book): Rack[] {
  const found = new Map<string, Rack>();
  for (const host of [...book.records.host].sort((a, b) => compareNames(a.name, b.name))) {
    const ports = book.of("nic", "host", host.id).map((nic) => book.get("fabric_port", book.far.get(nic.id)?.id));
    const switches = [...new Set(ports.flatMap((port) => (port ? [port.switch] : [])))];
    switches.sort((a, b) => compareNames(nameOf(book, a), nameOf(book, b)));
    const site = host.site ?? "";
    const key = `${site} ${switches.join(" ")}`;
    const rack = found.get(key);
    if (rack) rack.hosts.push(host.id);
    else found.set(key, { key, site, hosts: [host.id], switches });
  }
  const first = (rack: Rack): string => rack.switches.map((id) => nameOf(book, id)).join(" ");
  return [...found.values()].sort((a, b) => compareNames(a.site, b.site) || compareNames(first(a), first(b)));
}

const nameOf = (book: Book, id: string): string => book.get("fabric_switch", id)?.name ?? id;

/** The racks as large as they can be with all of them in sight. */
export function layFleet(racks: readonly Rack[], width: number, height: number): FleetLayout {
  const tries = PITCHES.map((pitch) => lay(racks, width, pitch));
  return tries.find((made) => made.height <= height) ?? tries.at(-1)!;
}

function lay(racks: readonly Rack[], width: number, pitch: number): FleetLayout {
  const high = Math.min(130, Math.max(30, Math.round(pitch * 4.2) + 6));
  const made: FleetLayout = { pitch, high, racks: [], sites: [], width, height: 0 };
  // Sites stand side by side as far as there is room, else below each other.
  let [left, top, deep] = [GAP, 4, 0];
  for (const [name, own] of Map.groupBy(racks, (rack) => rack.site)) {
    const site = laySite(own, width - 2 * GAP, pitch, high);
    if (left > GAP && left + site.width > width - GAP) [left, top, deep] = [GAP, top + deep + GAP, 0];
    made.sites.push({ name, hosts: own.reduce((sum, rack) => sum + rack.hosts.length, 0), x: left, y: top });
    for (const rack of site.racks) made.racks.push({ ...rack, x: left + rack.x, y: top + LABEL + rack.y });
    left += Math.max(site.width, LABEL_WIDE) + 2 * GAP;
    deep = Math.max(deep, LABEL + site.height);
  }
  made.height = top + deep + GAP;
  return made;
}

/** The racks of a site in rows; one that is wider than a row is cut. */
function laySite(
  own: readonly Rack[],
  room: number,
  pitch: number,
  high: number,
): { racks: Placed[]; width: number; height: number } {
  const most = Math.max(1, Math.floor((room - 4) / pitch));
  const racks: Placed[] = [];
  let [x, y, deep, width] = [0, 0, 0, 0];
  for (const rack of own)
    for (let n = 0; n < rack.hosts.length; n += most) {
      const hosts = rack.hosts.slice(n, n + most);
      const w = hosts.length * pitch + 4;
      if (x > 0 && x + w > room) [x, y, deep] = [0, y + deep + 10, 0];
      racks.push({ ...rack, key: `${rack.key} ${n}`, hosts, x, y, w });
      width = Math.max(width, x + w);
      x += w + GAP;
      deep = Math.max(deep, high + WIRES + rack.switches.length * (BAR + 3));
    }
  return { racks, width, height: y + deep };
}

/** Switches side by side, and the cables between them as arcs. */
export interface FabricBand {
  switches: { id: string; x: number; w: number }[];
  links: { key: string; a: number; b: number; cables: number; deep: number; way: Way | undefined; names: string }[];
  /** How far the arcs reach down. */
  deep: number;
}

const ARC = 54;

/** The fabric between the switches: in the order of the racks, those without hosts amid the others of their site. */
export function fabricBand(
  book: Book,
  racks: readonly Rack[],
  pieces: readonly Piece[] | null,
  width: number,
): FabricBand | null {
  const between = book.records.cable.flatMap(({ a, b }) => {
    const [one, two] = [book.get("fabric_port", a), book.get("fabric_port", b)];
    return one && two && one.switch !== two.switch ? [{ one, two }] : [];
  });
  if (!between.length) return null;
  const order = inRackOrder(book, racks);
  const step = Math.min(64, (width - 2 * GAP) / order.length);
  const placed = order.map((id, n) => ({ id, x: GAP + n * step, w: Math.max(1.5, step - 3) }));
  const middle = new Map(placed.map(({ id, x, w }) => [id, x + w / 2]));
  const ways = new Map<string, Way>();
  for (const { from, to, state } of pieces ?? []) {
    const [one, two] = [book.get("fabric_port", from), book.get("fabric_port", to)];
    if (!one || !two || one.switch === two.switch) continue;
    const key = pairOf(one.switch, two.switch);
    note(ways, key, state);
  }
  const links = [...Map.groupBy(between, ({ one, two }) => pairOf(one.switch, two.switch))].map(([key, own]) => {
    const { one, two } = own[0]!;
    const [a, b] = [middle.get(one.switch)!, middle.get(two.switch)!];
    const names = `${nameOf(book, one.switch)} – ${nameOf(book, two.switch)}`;
    const deep = Math.min(ARC, 10 + Math.abs(a - b) * 0.3);
    return { key, a: Math.min(a, b), b: Math.max(a, b), cables: own.length, deep, way: ways.get(key), names };
  });
  return { switches: placed, links, deep: Math.max(...links.map((link) => link.deep)) };
}

const pairOf = (one: string, two: string): string => (one < two ? `${one} ${two}` : `${two} ${one}`);

function inRackOrder(book: Book, racks: readonly Rack[]): string[] {
  const racked = new Set(racks.flatMap((rack) => rack.switches));
  const sites = Map.groupBy(book.records.fabric_switch, (s) => s.site ?? "");
  return [...sites.keys()].sort(compareNames).flatMap((site) => {
    const own = sites.get(site)!.map((s) => s.id);
    const order = [...racked].filter((id) => own.includes(id));
    const others = own.filter((id) => !racked.has(id)).sort((a, b) => compareNames(nameOf(book, a), nameOf(book, b)));
    const half = Math.ceil(order.length / 2);
    return [...order.slice(0, half), ...others, ...order.slice(half)];
  });
}

/** What a host's endpoints come to: the worst verdict that isn't home, and what share of them has each. */
export interface Standing {
  worst: Mark | null;
  shares: [Mark, number][];
  told: string;
}

const standings = new WeakMap<readonly Endpoint[], Standing>();

/** The same for the same list. */
export function standingOf(endpoints: readonly Endpoint[]): Standing {
  const known = standings.get(endpoints);
  if (known) return known;
  const made = makeStanding(endpoints);
  standings.set(endpoints, made);
  return made;
}

function makeStanding(endpoints: readonly Endpoint[]): Standing {
  const counts = Map.groupBy(endpoints, (endpoint): Mark => (endpoint.idle ? "idle" : endpoint.verdict));
  const order: Mark[] = [...VERDICTS, "idle"];
  const shares = order.flatMap((mark): [Mark, number][] => {
    const count = counts.get(mark)?.length ?? 0;
    return count ? [[mark, count / endpoints.length]] : [];
  });
  const bad = shares.filter(([mark]) => mark !== "home" && mark !== "idle").map(([mark]) => mark);
  return {
    worst: bad.at(-1) ?? null,
    shares,
    told: order.flatMap((mark) => (counts.has(mark) ? [`${counts.get(mark)!.length} ${mark}`] : [])).join(", "),
  };
}

/** The worst that becomes of a followed segment between each host and each switch; a host without ways has none. */
export function waysOf(book: Book, pieces: readonly Piece[]): Map<string, Map<string, Way>> {
  const made = new Map<string, Map<string, Way>>();
  const at = (host: string): Map<string, Way> => {
    const known = made.get(host) ?? new Map<string, Way>();
    made.set(host, known);
    return known;
  };
  for (const { from, to, state } of pieces) {
    const nic = book.get("nic", from);
    const port = nic && book.get("fabric_port", to);
    if (nic && port) {
      const ways = at(nic.host);
      note(ways, port.switch, state);
      continue;
    }
    // Where a guest's adapter begins one, its port group says it too.
    const host = hostOf(book, to) ?? hostOf(book, from);
    if (host) at(host);
  }
  return made;
}
