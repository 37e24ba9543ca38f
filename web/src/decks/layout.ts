import type { RecordOf } from "../api/client";
import { differing } from "../model/differ";
import { over, type Reading } from "../model/over";
import { compareNames, type Book } from "../model/records";
import { standingAt } from "./edits";

export interface Rect {
  x: number;
  y: number;
  w: number;
  h: number;
}
export interface Box extends Rect {
  id: string;
}
export interface GuestBox extends Box {
  adapters: Box[];
  /** Whether they stand beside its name. */
  level: boolean;
  /** y of the free line under its adapters. */
  under: number;
}
export interface SlotBox extends Box {
  /** y of the free line above and below the slot's row. */
  over: number;
  under: number;
}
export interface SwitchBox extends Box {
  reach: "wired" | "host-local" | "sealed";
  /** Its only seat stands beside its name. */
  single: boolean;
  slots: SlotBox[];
  ports: SlotBox[];
}
export interface NicBox extends Box {
  uplink: string | null;
  /** The fabric port, or the NIC of another host, at the other end; null where nothing is plugged in. */
  far: string | null;
  below: Rect;
  /** y of the free line above the NIC, and x where lines leave its lower end. */
  over: number;
  drop: number;
  /** From the lower end of what it is plugged into down to the floor, around the rows beneath. */
  exit: [number, number][];
}
export interface TeamLabel extends Rect {
  id: string | null;
  /** y of the free line under the label. */
  under: number;
}
export interface Column {
  host: string;
  x: number;
  w: number;
  /** What it would do with. */
  least: number;
  collapsed: boolean;
  left: number;
  right: number;
  /** The strip that stands for its guests, or folds them up, where they are gathered. */
  gather: (Rect & { folded: boolean }) | null;
  guests: GuestBox[];
  switches: SwitchBox[];
  nics: NicBox[];
  teams: TeamLabel[];
  /** How high its guests, switches and NICs stand. */
  heights: { guests: number; switches: number; nics: number };
}
export interface Bar extends Box {
  lane: number;
  /** How far in the name begins, past the end of a cable that comes in from the left. */
  inset: number;
  /** Uncabled ports, shown as sockets in the bar, and how many more there are. */
  sockets: Box[];
  more: (Rect & { count: number }) | null;
}
export interface TrunkEnd {
  port: string;
  bar: string;
  x: number;
  y: number;
  side: "left" | "right" | "up" | "down";
}
export interface Trunk {
  cable: string;
  a: TrunkEnd;
  b: TrunkEnd;
  points: [number, number][];
}
export interface Layout {
  width: number;
  height: number;
  columns: Column[];
  bars: Bar[];
  trunks: Trunk[];
  decks: { guests: number; switches: number; nics: number; floor: number };
  /** Top of the strip under the floor where reasons stand. */
  reasons: number;
  barOf: Map<string, Bar>;
  nicOf: Reading<string, NicBox>;
  /** The NIC above a cabled fabric port. */
  above: Reading<string, NicBox>;
  slotOf: Reading<string, SlotBox>;
  /** The column of a host, and of its adapters, seats, NICs and uplinks. */
  columnOf: Reading<string, Column>;
  teamOf: Reading<string, TeamLabel>;
}
/** The ways into the columns' parts. */
type Ways = Pick<Layout, "nicOf" | "above" | "slotOf" | "columnOf" | "teamOf">;

export const COLUMN_GAP = 14;
export const COLLAPSED = 46;
export const LEAST_WIDTH = 272;
const HEAD = 34;
const PAD = 16;
const GUEST = { name: 23, tab: 18, gap: 9, middle: 16, pitch: 42, tight: 34, line: 26, many: 24, least: 70 };
const GATHER = { h: 24, gap: 9 };
const SLOT = { h: 25, gap: 8, under: 9 };
const PORT = { h: 30, gap: 8, under: 8 };
const TITLE = 22;
const NIC = { h: 33, port: 67, gap: 6, least: 59 };
export const BAR = { h: 26, gap: 30 };
const REASONS = 5;

const sorted = new WeakMap<readonly object[], readonly object[]>();

/** A list by name; the same list is sorted once. */
export function byName<T extends { name: string }>(list: readonly T[]): readonly T[] {
  if (list.length < 2) return list;
  let made = sorted.get(list) as readonly T[] | undefined;
  if (!made) sorted.set(list, (made = [...list].sort((a, b) => compareNames(a.name, b.name))));
  return made;
}

/** How far a switch reaches, as the engine says. */
export const reachOf = (book: Book, id: string): SwitchBox["reach"] => book.teams.reach[id] ?? "sealed";

/**
 * Members of an uplink in the order in which they would carry, as the engine says; what an edit has only just
 * brought comes last.
 */
export function membersOf(book: Book, uplink: RecordOf<"uplink">): readonly RecordOf<"nic">[] {
  const order = new Map((book.teams.members[uplink.id] ?? []).map((id, n) => [id, n]));
  return [...byName(book.of("nic", "uplink", uplink.id))].sort(
    (a, b) => (order.get(a.id) ?? order.size) - (order.get(b.id) ?? order.size),
  );
}

const inOrder = new WeakMap<readonly object[], readonly RecordOf<"host">[]>();

/** The hosts by site and name; the same list of them is put in order once. */
export function hostsInOrder({ records: { host } }: Book): readonly RecordOf<"host">[] {
  let made = inOrder.get(host);
  if (!made) {
    made = [...host].sort((a, b) => compareNames(a.site ?? "", b.site ?? "") || compareNames(a.name, b.name));
    inOrder.set(host, made);
  }
  return made;
}

const noWays = (): Parts => ({
  nicOf: new Map(),
  above: new Map(),
  slotOf: new Map(),
  columnOf: new Map(),
  teamOf: new Map(),
});

/** Where nothing is placed: from far, hosts and fabric are drawn otherwise. */
export const NOWHERE: Layout = {
  width: 0,
  height: 0,
  columns: [],
  bars: [],
  trunks: [],
  decks: { guests: 0, switches: 0, nics: 0, floor: 0 },
  reasons: 0,
  barOf: new Map(),
  ...noWays(),
};

/** What is placed, and how. */
interface Asked {
  book: Book;
  hosts: readonly RecordOf<"host">[];
  collapsed: ReadonlySet<string>;
  room: number;
  /** Hosts whose guests stand each for itself where those of the others are gathered; null: those of all do. */
  unfolded: ReadonlySet<string> | null;
}

/** Places everything; a column in which nothing differs, and that stays where it was, is the same as the last time. */
export function layouts(): (asked: Asked) => Layout {
  let last: { book: Book; layout: Layout } | null = null;
  return (asked) => {
    const differs = last && differing(last.book, asked.book);
    const before = last && differs ? new Map(last.layout.columns.map((c) => [c.host, c])) : null;
    for (const host of differs?.hosts ?? []) before!.delete(host);
    const layout = (before && computeLayout(asked, last!, before)) ?? computeLayout(asked)!;
    last = { book: asked.book, layout };
    return layout;
  };
}

/**
 * Where everything stands. Depends on the records alone, so it stays as it is while verdicts change. Of the layout
 * before the kept columns are taken as they are; null where they can't stay, since the decks lie otherwise now.
 */
function computeLayout(
  { book, hosts, collapsed, room, unfolded }: Asked,
  last: { book: Book; layout: Layout } = { book, layout: NOWHERE },
  kept: ReadonlyMap<string, Column> = new Map(),
): Layout | null {
  const before = last.layout;
  const open = hosts.filter((h) => !collapsed.has(h.id)).length;
  const spare = room - PAD - (hosts.length - open) * (COLLAPSED + COLUMN_GAP) - open * COLUMN_GAP;
  const needs = new Map(hosts.map((h) => [h.id, kept.get(h.id)?.least ?? leastWidth(book, h.id)]));
  const even = spare / Math.max(1, open);
  // Columns that need more than an even share leave the rest to the others.
  const broad = [...needs].filter(([id, need]) => !collapsed.has(id) && need > even).map(([, need]) => need);
  const rest = (spare - broad.reduce((sum, need) => sum + need, 0)) / Math.max(1, open - broad.length);
  const width = Math.floor(Math.max(LEAST_WIDTH, Math.min(400, rest)));
  const anew = new Set<Column>();
  let x = PAD / 2;
  const columns: Column[] = hosts.map((host) => {
    const closed = collapsed.has(host.id);
    const w = closed ? COLLAPSED : Math.max(width, needs.get(host.id)!);
    const folded = unfolded && !closed ? !unfolded.has(host.id) : undefined;
    const was = kept.get(host.id);
    const stays = was?.x === x && was.w === w && was.collapsed === closed && was.gather?.folded === folded;
    const column: Column = stays
      ? was
      : {
          host: host.id,
          x,
          w,
          least: needs.get(host.id)!,
          collapsed: closed,
          left: x + 8,
          right: x + w - 8,
          gather: null,
          guests: [],
          switches: [],
          nics: [],
          teams: [],
          heights: { guests: 0, switches: 0, nics: 0 },
        };
    if (!stays) anew.add(column);
    x += w + COLUMN_GAP;
    return column;
  });
  const made = [...anew].filter((c) => !c.collapsed);
  const highest = (least: number, deck: keyof Column["heights"]): number =>
    columns.reduce((most, { heights }) => Math.max(most, heights[deck]), least);
  const guestTop = HEAD + 11;
  for (const c of made) {
    const folded = unfolded && !unfolded.has(c.host);
    if (unfolded) c.gather = { x: c.x + PAD, y: guestTop, w: c.w - 2 * PAD, h: GATHER.h, folded: folded === true };
    const strip = unfolded ? GATHER.h + (folded ? 0 : GATHER.gap) : 0;
    c.heights.guests = strip + (folded ? 0 : placeGuests(book, c, guestTop + strip));
  }
  const switchTop = guestTop + highest(unfolded ? GATHER.h : 60, "guests") + 15;
  if (kept.size && switchTop !== before.decks.switches) return null;
  for (const c of made) c.heights.switches = placeSwitches(book, c, switchTop);
  const nicTop = switchTop + highest(60, "switches") + 4;
  if (kept.size && nicTop !== before.decks.nics) return null;
  for (const c of made) c.heights.nics = placeNics(book, c, nicTop);
  const floor = nicTop + highest(60, "nics");

  const layout: Layout = {
    width: x,
    height: 0,
    columns,
    bars: [],
    trunks: [],
    decks:
      kept.size && floor === before.decks.floor
        ? before.decks
        : { guests: guestTop, switches: switchTop, nics: nicTop, floor },
    reasons: floor + REASONS,
    barOf: new Map(),
    ...(kept.size ? waysInto(columns, anew, before) : partsOf(columns)),
  };
  if (layout.decks !== before.decks || !isSameFabric(book, columns, last)) {
    placeBars(book, layout, floor + 40);
    return layout;
  }
  const { bars, barOf, trunks, width: whole, height } = before;
  return { ...layout, bars, barOf, trunks, width: whole, height };
}

/** What bars and trunks are placed by, beside the columns. */
const FABRIC = ["fabric_switch", "fabric_port", "cable", "nic", "station", "station_port", "bmc", "host"] as const;

/** Whether the fabric lies under these columns as it did the last time. */
const isSameFabric = (book: Book, columns: readonly Column[], last: { book: Book; layout: Layout }): boolean =>
  FABRIC.every((kind) => book.records[kind] === last.book.records[kind]) &&
  columns.length === last.layout.columns.length &&
  last.layout.columns.every((was, n) => {
    const is = columns[n]!;
    return is === was || (is.host === was.host && is.x === was.x && is.w === was.w && is.collapsed === was.collapsed);
  });

/** The ways into all columns: those of before, with the parts of columns that are new instead of what is gone. */
function waysInto(columns: readonly Column[], anew: ReadonlySet<Column>, before: Layout): Ways {
  const stay = new Set(columns);
  const gone = before.columns.filter((c) => !stay.has(c));
  const [was, is] = [gone, [...anew]].map(partsOf) as [Parts, Parts];
  const way = <T>(known: Reading<string, T>, old: ReadonlyMap<string, T>, made: ReadonlyMap<string, T>) =>
    over(known, [...[...old.keys()].map((id) => [id, undefined] as const), ...made]);
  return {
    nicOf: way(before.nicOf, was.nicOf, is.nicOf),
    above: way(before.above, was.above, is.above),
    slotOf: way(before.slotOf, was.slotOf, is.slotOf),
    columnOf: way(before.columnOf, was.columnOf, is.columnOf),
    teamOf: way(before.teamOf, was.teamOf, is.teamOf),
  };
}

type Parts = { [W in keyof Ways]: Ways[W] extends Reading<string, infer T> ? Map<string, T> : never };

/** An adapter's box and its guest, in a column. */
export function adapterIn(column: Column | undefined, id: string): { box: Box; guest: GuestBox } | null {
  for (const guest of column?.guests ?? []) {
    const box = guest.adapters.find((b) => b.id === id);
    if (box) return { box, guest };
  }
  return null;
}

function partsOf(columns: readonly Column[]): Parts {
  const parts = noWays();
  for (const column of columns) {
    parts.columnOf.set(column.host, column);
    for (const guest of column.guests) for (const box of guest.adapters) parts.columnOf.set(box.id, column);
    for (const sw of column.switches)
      for (const slot of [...sw.slots, ...sw.ports]) {
        parts.slotOf.set(slot.id, slot);
        parts.columnOf.set(slot.id, column);
      }
    for (const nic of column.nics) {
      parts.nicOf.set(nic.id, nic);
      parts.columnOf.set(nic.id, column);
      if (nic.far) parts.above.set(nic.far, nic);
    }
    for (const team of column.teams)
      if (team.id) {
        parts.teamOf.set(team.id, team);
        parts.columnOf.set(team.id, column);
      }
  }
  return parts;
}

/**
 * Guests in pairs, each with its adapters as tabs beneath, or beside its name where there are many; one whose tabs
 * don't fit into half of the column has a row of its own.
 */
function placeGuests(book: Book, column: Column, top: number): number {
  const inner = column.w - 2 * PAD;
  const half = (inner - GUEST.middle) / 2;
  const guests = byName(book.of("guest", "host", column.host));
  const many = guests.length > GUEST.many;
  let y = top;
  let right = 0;
  for (const guest of guests) {
    const own = byName(book.of("adapter", "guest", guest.id));
    const adapters = own.length > 1 ? [...own].sort((a, b) => (a.order ?? 0) - (b.order ?? 0)) : own;
    const wide = many
      ? adapters.length > tabsAbreast(half - GUEST.least, GUEST.tight)
      : adapters.length > tabsAbreast(half, GUEST.tight);
    const w = wide ? inner : half;
    const level = many && adapters.length <= tabsAbreast(w - GUEST.least, GUEST.tight);
    const pitch = level || adapters.length > tabsAbreast(w, GUEST.pitch) ? GUEST.tight : GUEST.pitch;
    const abreast = level ? adapters.length : tabsAbreast(w, pitch);
    const tall = level
      ? GUEST.name
      : GUEST.name + GUEST.tab + (Math.max(1, Math.ceil(adapters.length / abreast)) - 1) * GUEST.line;
    if (wide && right) {
      y += right;
      right = 0;
    }
    const x = column.x + PAD + (right ? half + GUEST.middle : 0);
    const [tabX, tabY] = level ? [x + w - adapters.length * pitch + 4, y] : [x + 8, y + GUEST.name];
    const tabs = adapters.map((adapter, n) => ({
      id: adapter.id,
      x: tabX + (n % abreast) * pitch,
      y: tabY + Math.floor(n / abreast) * GUEST.line,
      w: pitch - 4,
      h: level ? GUEST.name : GUEST.tab,
    }));
    column.guests.push({
      id: guest.id,
      x,
      y,
      w: level ? tabX - x - 2 : w,
      h: GUEST.name,
      adapters: tabs,
      level,
      under: y + tall + 7,
    });
    if (wide || right) y += tall + GUEST.gap;
    right = wide || right ? 0 : tall + GUEST.gap;
  }
  return y + right - top;
}

const tabsAbreast = (width: number, pitch: number): number => Math.floor((width - 4) / pitch);

/** Slots sorted by tag, so that the same segments stand alike on every host. */
function placeSwitches(book: Book, column: Column, top: number): number {
  let y = top;
  const inner = column.w - 2 * PAD;
  const order = { wired: 0, "host-local": 1, sealed: 2 };
  const switches = [...byName(book.of("virtual_switch", "host", column.host))].sort(
    (a, b) => order[reachOf(book, a.id)] - order[reachOf(book, b.id)],
  );
  for (const record of switches) {
    const box: SwitchBox = {
      id: record.id,
      x: column.x + PAD,
      y,
      w: inner,
      h: 0,
      reach: reachOf(book, record.id),
      single: false,
      slots: [],
      ports: [],
    };
    const groups = [...book.of("port_group", "switch", record.id)].sort(
      (a, b) =>
        (a.vid ?? (a.mode === "trunk" ? 5000 : 0)) - (b.vid ?? (b.mode === "trunk" ? 5000 : 0)) ||
        compareNames(a.name, b.name),
    );
    const ports = byName(book.of("host_port", "switch", record.id));
    const each = (inner - 16 - SLOT.gap) / 2;
    const seat = (id: string, n: number, row: number, h: number): SlotBox => ({
      id,
      x: box.x + 8 + (n % 2) * (each + SLOT.gap),
      y: row,
      w: each,
      h,
      over: row - 5,
      under: row + h + 5,
    });
    if (groups.length + ports.length === 1) {
      // One seat alone stands beside the switch's name.
      const h = groups.length ? SLOT.h : PORT.h;
      (groups.length ? box.slots : box.ports).push(seat((groups[0] ?? ports[0])!.id, 1, y + 7, h));
      box.h = h + 14;
      box.single = true;
    } else {
      let at = y + TITLE + 8;
      // An odd host port takes the place beside an odd port group.
      const odd = (groups.length % 2) & (ports.length % 2);
      groups.forEach((group, n) =>
        box.slots.push(
          seat(group.id, n, at + (n >> 1) * (SLOT.h + SLOT.under), odd && n === groups.length - 1 ? PORT.h : SLOT.h),
        ),
      );
      at += ((groups.length + 1 - odd) >> 1) * (SLOT.h + SLOT.under);
      ports.forEach((port, n) =>
        box.ports.push(seat(port.id, n + odd, at + ((n + odd) >> 1) * (PORT.h + PORT.under), PORT.h)),
      );
      at += ((ports.length + 1 + odd) >> 1) * (PORT.h + PORT.under);
      box.h = Math.max(at - y, TITLE + 10);
    }
    y += box.h + 8;
    column.switches.push(box);
  }
  return y - top;
}

const nicsAbreast = (book: Book, host: string): number => Math.min(4, Math.max(3, book.of("nic", "host", host).length));

function leastWidth(book: Book, host: string): number {
  const abreast = nicsAbreast(book, host);
  return 2 * PAD + abreast * NIC.least + (abreast - 1) * NIC.gap;
}

/** NICs by uplink: its label, a free line, then the NICs with what is plugged into each. */
function placeNics(book: Book, column: Column, top: number): number {
  const inner = column.w - 2 * PAD;
  const most = nicsAbreast(book, column.host);
  const each = (inner - (most - 1) * NIC.gap) / most;
  const units: { uplink: string | null; nics: readonly RecordOf<"nic">[] }[] = [];
  for (const sw of column.switches) {
    for (const uplink of byName(book.of("uplink", "switch", sw.id))) {
      const nics = membersOf(book, uplink);
      if (nics.length) units.push({ uplink: uplink.id, nics });
    }
  }
  const unused = byName(book.of("nic", "host", column.host).filter((n) => !n.uplink));
  if (unused.length) units.push({ uplink: null, nics: unused });
  let y = top;
  let used = 0;
  const height = 16 + 8 + NIC.h + 8 + NIC.port + 6;
  for (const unit of units) {
    const nics = [...unit.nics];
    while (nics.length) {
      if (used >= most || (used > 0 && used + nics.length > most && nics.length <= most)) {
        y += height + 12;
        used = 0;
      }
      const part = nics.splice(0, most - used);
      const x = column.x + PAD + used * (each + NIC.gap);
      const w = part.length * each + (part.length - 1) * NIC.gap;
      column.teams.push({ id: unit.uplink, x, y, w, h: 16, under: y + 20 });
      part.forEach((nic, n) => {
        const nx = x + n * (each + NIC.gap);
        const far = book.far.get(nic.id)?.id ?? null;
        column.nics.push({
          id: nic.id,
          uplink: unit.uplink,
          far,
          x: nx,
          y: y + 24,
          w: each,
          h: NIC.h,
          over: y + 20,
          below: { x: nx, y: y + 24 + NIC.h + 8, w: each, h: NIC.port },
          drop: nx + each / 2,
          exit: [],
        });
      });
      used += part.length;
    }
  }
  const floor = y + height;
  for (const nic of column.nics) {
    const end = nic.below.y + nic.below.h;
    const side = column.x + 11;
    nic.exit =
      floor - end < height
        ? [
            [nic.drop, end],
            [nic.drop, floor],
          ]
        : [
            [nic.drop, end],
            [nic.drop, end + 8],
            [side, end + 8],
            [side, floor],
          ];
  }
  return floor - top;
}

/** The fabric's switches lie level: each as wide as what hangs on it, in the first lane that has room. */
function placeBars(book: Book, layout: Layout, top: number): void {
  const spans = new Map<string, [number, number]>();
  const stretch = (id: string, from: number, to: number): void => {
    const span = spans.get(id);
    spans.set(id, span ? [Math.min(span[0], from), Math.max(span[1], to)] : [from, to]);
  };
  for (const column of layout.columns) {
    const ids = column.collapsed
      ? book.of("nic", "host", column.host).map((n) => book.far.get(n.id)?.id)
      : column.nics.map((n) => n.far);
    for (const id of ids) {
      const port = book.get("fabric_port", id);
      if (port) stretch(port.switch, column.x + 8, column.x + column.w - 8);
    }
  }
  const joined = book.records.cable.flatMap((cable) => {
    const a = book.get("fabric_port", cable.a);
    const b = book.get("fabric_port", cable.b);
    return a && b ? [{ cable: cable.id, a, b }] : [];
  });
  const switches = byName(book.records.fabric_switch);
  for (const record of switches) {
    if (spans.has(record.id)) continue;
    // A switch without hosts lies across everything that its neighbours carry.
    const near = joined
      .filter((j) => j.a.switch === record.id || j.b.switch === record.id)
      .map((j) => (j.a.switch === record.id ? j.b.switch : j.a.switch));
    const found = near.flatMap((id) => spans.get(id) ?? []);
    spans.set(
      record.id,
      found.length
        ? [Math.min(...found), Math.max(...found)]
        : [layout.columns[0]?.x ?? 8, Math.max(320, layout.width - 20)],
    );
  }
  const lanes: [number, number][][] = [];
  const ordered = [...switches].sort((a, b) => {
    const [p, q] = [spans.get(a.id)!, spans.get(b.id)!];
    return p[0] - q[0] || p[1] - p[0] - (q[1] - q[0]) || compareNames(a.name, b.name);
  });
  for (const record of ordered) {
    const span = spans.get(record.id)!;
    const free = byName(book.of("fabric_port", "switch", record.id).filter((p) => !book.far.has(p.id)));
    const stations = free.filter((p) => standingAt(book, p.id) !== undefined);
    const from = span[0];
    // Its name stays in sight beside what is plugged in and, as far as there is room, what could be.
    const name = nameWidth(record);
    let room = Math.max(span[1] - from, name + 330) - name - 92;
    const sockets: { id: string; w: number }[] = [];
    for (const port of [...stations, ...free.filter((p) => !stations.includes(p))]) {
      const w = stations.includes(port) ? 92 : Math.max(50, port.name.length * 5.8 + 34);
      if (sockets.length === 6 || room < w) break;
      room -= w + 4;
      sockets.push({ id: port.id, w });
    }
    const more = free.length - sockets.length;
    const to = Math.max(span[1], from + name + sockets.reduce((a, s) => a + s.w + 4, more ? 44 : 0) + 48);
    let lane = lanes.findIndex((taken) => taken.every(([a, b]) => to + 24 < a || from > b + 24));
    if (lane < 0) lane = lanes.push([]) - 1;
    lanes[lane]!.push([from, to]);
    const y = top + lane * (BAR.h + BAR.gap);
    const bar: Bar = { id: record.id, x: from, y, w: to - from, h: BAR.h, lane, inset: 0, sockets: [], more: null };
    // The end of the bar is left to the cable that may leave there.
    let edge = to - 44;
    if (more) bar.more = { count: more, x: (edge -= 44), y: y + 4, w: 40, h: BAR.h - 8 };
    for (const { id, w } of sockets.reverse()) bar.sockets.push({ id, x: (edge -= w + 4), y: y + 4, w, h: BAR.h - 8 });
    layout.bars.push(bar);
    layout.barOf.set(record.id, bar);
  }
  placeTrunks(layout, joined);
  const last = Math.max(top, ...layout.bars.map((b) => b.y + b.h));
  layout.width = Math.max(layout.width, ...layout.bars.map((b) => b.x + b.w + PAD));
  layout.height = last + 34;
}

const nameWidth = (record: RecordOf<"fabric_switch">): number =>
  record.name.length * 7.2 +
  ((record.site ?? "").length +
    (record.managed === false ? 12 : 0) +
    (record.partial ? 16 : 0) +
    (record.spanning_tree ? 27 : 0)) *
    6 +
  34;

function placeTrunks(
  layout: Layout,
  joined: { cable: string; a: RecordOf<"fabric_port">; b: RecordOf<"fabric_port"> }[],
): void {
  // Between the columns nothing else runs, so that is where the fabric's own cables go.
  const gaps = layout.columns.map((c) => c.x + c.w + COLUMN_GAP / 2);
  const taken: number[] = [];
  for (const { cable, a, b } of joined) {
    const [p, q] = [layout.barOf.get(a.switch)!, layout.barOf.get(b.switch)!];
    if (p === q) continue;
    const ends = (bar: Bar, port: string, x: number, y: number, side: TrunkEnd["side"]): TrunkEnd => ({
      port,
      bar: bar.id,
      x,
      y,
      side,
    });
    if (p.lane === q.lane) {
      const [left, right] = p.x < q.x ? [p, q] : [q, p];
      const y = p.y + p.h / 2;
      const one = ends(left, left === p ? a.id : b.id, left.x + left.w, y, "left");
      const two = ends(right, right === p ? a.id : b.id, right.x, y, "right");
      right.inset = 34;
      const between = layout.bars.some((o) => o.lane === p.lane && o.x > left.x + left.w && o.x + o.w < right.x);
      const low = y + BAR.h / 2 + 10;
      const points: [number, number][] = between
        ? [
            [one.x, y],
            [one.x + 10, y],
            [one.x + 10, low],
            [two.x - 10, low],
            [two.x - 10, y],
            [two.x, y],
          ]
        : [
            [one.x, y],
            [two.x, y],
          ];
      layout.trunks.push(
        left === p ? { cable, a: one, b: two, points } : { cable, a: two, b: one, points: points.reverse() },
      );
      continue;
    }
    const [from, to] = [Math.max(p.x, q.x) + 12, Math.min(p.x + p.w, q.x + q.w) - 12];
    if (from > to) {
      // Neither lies over the other: out at the end of the left one, in from above or beneath at the right one.
      const [left, right] = p.x < q.x ? [p, q] : [q, p];
      const y = left.y + left.h / 2;
      let x = right.x + 40;
      while (taken.some((t) => Math.abs(t - x) < 12)) x += 14;
      taken.push(x);
      const down = right.y < left.y;
      const edge = down ? right.y + right.h : right.y;
      const one = ends(left, left === p ? a.id : b.id, left.x + left.w, y, "left");
      const two = ends(right, right === p ? a.id : b.id, x, edge, down ? "up" : "down");
      const points: [number, number][] = [
        [one.x, y],
        [x, y],
        [x, edge],
      ];
      layout.trunks.push(
        left === p ? { cable, a: one, b: two, points } : { cable, a: two, b: one, points: points.reverse() },
      );
      continue;
    }
    const free = gaps.filter((g) => g > from && g < to && !taken.includes(g));
    let x = free[0] ?? (from + to) / 2;
    while (taken.some((t) => Math.abs(t - x) < 12)) x += 14;
    taken.push(x);
    const [pa, qb] = [p.y < q.y ? p.y + p.h : p.y, q.y < p.y ? q.y + q.h : q.y];
    const above = p.y < q.y;
    layout.trunks.push({
      cable,
      a: ends(p, a.id, x, pa, above ? "up" : "down"),
      b: ends(q, b.id, x, qb, above ? "down" : "up"),
      points: [
        [x, pa],
        [x, qb],
      ],
    });
  }
}

/** A path of straight stretches with rounded corners. */
export function rounded(points: readonly [number, number][], radius = 7): string {
  const clean = points.filter((p, n) => n === 0 || p[0] !== points[n - 1]![0] || p[1] !== points[n - 1]![1]);
  let d = "";
  clean.forEach(([x, y], n) => {
    const before = clean[n - 1];
    const after = clean[n + 1];
    if (!before) {
      d += `M${x} ${y}`;
      return;
    }
    if (!after) {
      d += `L${x} ${y}`;
      return;
    }
    const one = Math.min(radius, Math.hypot(x - before[0], y - before[1]) / 2);
    const two = Math.min(radius, Math.hypot(after[0] - x, after[1] - y) / 2);
    const r = Math.min(one, two);
    const from = [x - Math.sign(x - before[0]) * r, y - Math.sign(y - before[1]) * r];
    const to = [x + Math.sign(after[0] - x) * r, y + Math.sign(after[1] - y) * r];
    d += `L${from[0]} ${from[1]}Q${x} ${y} ${to[0]} ${to[1]}`;
  });
  return d;
}
