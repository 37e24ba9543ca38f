import type { components } from "../api/schema";
import type { AnswersChange, Kind, Operation, RecordOf, Records } from "../api/client";
import { over, type Reading } from "./over";

/** Names in the order in which people count: nic2 before nic10. */
export const compareNames = new Intl.Collator("en", { numeric: true }).compare;

const PLAIN = /^(?!.*\d{17})[a-z0-9 .’-]*$/;

/** Items in the order of their names, as `compareNames` has it; where all are plain they go by keys, far quicker. */
export function byName<T>(items: readonly T[], nameOf: (item: T) => string): T[] {
  const keyed = items.map((item): [string, T] => [nameOf(item), item]);
  if (!keyed.every(([name]) => PLAIN.test(name))) {
    return keyed.sort(([a], [b]) => compareNames(a, b)).map(([, item]) => item);
  }
  // The apostrophe stands behind the full stop and before digits, where a slash is in the order of keys.
  for (const pair of keyed)
    pair[0] = pair[0].replace(/\d+/g, (digits) => digits.padStart(16, "0")).replaceAll("’", "/");
  return keyed.sort(([a], [b]) => (a < b ? -1 : a > b ? 1 : 0)).map(([, item]) => item);
}

type AnyRecord = { id: string } & Record<string, unknown>;

/** What the engine says of a plan beside its verdicts. */
export interface Answers {
  teams: components["schemas"]["Teams"];
  /** The segments that each adapter could hear or reach by sending what it isn’t meant to. */
  could: Record<string, string[]>;
}

/** Answers with those that an edit changed; null stands for what is gone. */
export function applyAnswers(answers: Answers, { could, ...teams }: AnswersChange): Answers {
  const { members, carries, reach } = answers.teams;
  const now = {
    members: changed(members, teams.members),
    carries: changed(carries, teams.carries),
    reach: changed(reach, teams.reach),
  };
  const same = now.members === members && now.carries === carries && now.reach === reach;
  return { teams: same ? answers.teams : now, could: changed(answers.could, could) };
}

/** The same object where nothing changes, so that nothing is drawn anew. */
function changed<T>(before: Record<string, T>, news: Record<string, T | null>): Record<string, T> {
  if (!Object.keys(news).length) return before;
  const made = { ...before };
  for (const [key, value] of Object.entries(news)) {
    if (value === null) delete made[key];
    else made[key] = value;
  }
  return made;
}

/** Records with the ways into them that the views need. */
export interface Book extends Answers {
  records: Records;
  byId: { has: (id: string) => boolean; get: (id: string) => (AnyRecord & { kind: Kind }) | undefined };
  /** Records of a kind whose reference field names the id. */
  of: <K extends Kind>(kind: K, field: string, id: string) => RecordOf<K>[];
  get: <K extends Kind>(kind: K, id: string | null | undefined) => RecordOf<K> | undefined;
  /** What is at the other end of a NIC's or port's cable, and the cable. */
  far: Map<string, { id: string; cable: string }>;
}

/** The ways into the records of one kind. */
interface Shelf {
  byId: Reading<string, AnyRecord>;
  byField: Map<string, Reading<unknown, AnyRecord[]>>;
  far?: Book["far"];
}

// An edit leaves the lists of the kinds that it doesn't touch as they are, and with them the ways into them; those of
// others are made of the ones before.
const shelves = new WeakMap<readonly object[], Shelf>();

function shelfOf(list: readonly AnyRecord[]): Shelf {
  let shelf = shelves.get(list);
  if (!shelf) shelves.set(list, (shelf = { byId: new Map(list.map((r) => [r.id, r])), byField: new Map() }));
  return shelf;
}

/** After an edit of more records than these, the ways into them are made anew. */
const FEW = 100;

/** The ways into a kind's records after some became others (null: gone), of those before. */
function shelfAfter(before: Shelf, changes: ReadonlyMap<string, AnyRecord | null>): Shelf {
  const pairs = [...changes].map(([id, now]) => [before.byId.get(id), now] as const);
  const byField: Shelf["byField"] = new Map();
  for (const [field, index] of before.byField) {
    // Where a record's value differs, its place among those of the other value isn't known: that way is made anew.
    if (pairs.some(([was, now]) => was && now && was[field] !== now[field])) continue;
    const lists = new Map<unknown, AnyRecord[]>();
    for (const [was, now] of pairs) {
      const value = (now ?? was)?.[field];
      const list = lists.get(value) ?? index.get(value) ?? [];
      lists.set(value, was ? list.flatMap((r) => (r.id === was.id ? (now ?? []) : r)) : now ? [...list, now] : list);
    }
    byField.set(field, over(index, lists));
  }
  return {
    byId: over(
      before.byId,
      [...changes].map(([id, now]) => [id, now ?? undefined] as const),
    ),
    byField,
  };
}

function farOf(cables: Records["cable"]): Book["far"] {
  const shelf = shelfOf(cables as unknown as AnyRecord[]);
  return (shelf.far ??= new Map(
    cables.flatMap((c) => [[c.a, { id: c.b, cable: c.id }] as const, [c.b, { id: c.a, cable: c.id }] as const]),
  ));
}

export function makeBook(records: Records): Omit<Book, keyof Answers> {
  const kinds = Object.keys(records) as Kind[];
  const shelf = (kind: Kind): Shelf => shelfOf(records[kind] as unknown as AnyRecord[]);
  const of = <K extends Kind>(kind: K, field: string, id: string): RecordOf<K>[] => {
    const { byField } = shelf(kind);
    let index = byField.get(field);
    if (!index) {
      index = Map.groupBy(records[kind] as unknown as AnyRecord[], (record) => record[field]);
      byField.set(field, index);
    }
    return (index.get(id) ?? []) as unknown as RecordOf<K>[];
  };
  const get = <K extends Kind>(kind: K, id: string | null | undefined): RecordOf<K> | undefined =>
    id ? (shelf(kind).byId.get(id) as RecordOf<K> | undefined) : undefined;
  const byId: Book["byId"] = {
    has: (id) => kinds.some((kind) => shelf(kind).byId.has(id)),
    get: (id) => {
      for (const kind of kinds) {
        const found = shelf(kind).byId.get(id);
        if (found) return { ...found, kind };
      }
      return undefined;
    },
  };
  return { records, byId, of, get, far: farOf(records.cable) };
}

/** The segment that has a VID. */
export const segmentWith = (
  book: Pick<Book, "records">,
  vid: number | null | undefined,
): RecordOf<"segment"> | undefined => (vid ? book.records.segment.find((segment) => segment.vid === vid) : undefined);

/** From where a segment comes that the plan doesn't define itself: its source's name; empty where it does. */
export const sourceOf = (book: Pick<Book, "get">, segment: RecordOf<"segment"> | undefined): string =>
  (segment?.source && book.get("source", segment.source)?.name) || "";

/** The fields of a segment that its source says, where it has one. */
export const DEFINED: readonly string[] = ["name", "vid", "vni", "subnets", "encapsulation"];

/** A segment's number as people say it: its VID, its VNI, or that it has none. */
export const segmentTag = (segment: Pick<RecordOf<"segment">, "vid" | "vni"> | undefined): string =>
  String(segment?.vid ?? (segment?.vni ? `VNI ${segment.vni}` : "untagged"));

/** The virtual switch on which a record is, or whose way out it is. */
export function switchOf(book: Book, id: string): RecordOf<"virtual_switch"> | undefined {
  const part =
    book.get("port_group", id) ??
    book.get("host_port", id) ??
    book.get("uplink", id) ??
    book.get("uplink", book.get("nic", id)?.uplink);
  return book.get("virtual_switch", id) ?? book.get("virtual_switch", part?.switch);
}

/** The host of which a record is a part, a fabric port under one of its NICs included. */
export function hostOf(book: Book, id: string): string | undefined {
  const nic = book.get("nic", id) ?? book.get("nic", book.far.get(id)?.id);
  const found = nic?.host ?? switchOf(book, id)?.host ?? book.get("host", id)?.id;
  // Guests and adapters come last: they are the most, and nobody may have asked for them yet.
  if (found || book.get("fabric_port", id) || book.get("fabric_switch", id)) return found;
  return (book.get("guest", id) ?? book.get("guest", book.get("adapter", id)?.guest))?.host;
}

/**
 * The records after an edit; the lists of kinds that it doesn't touch are shared.
 * Fields that an edit sets to nothing stay as null.
 */
export function applyOperations(records: Records, edit: readonly Operation[]): Records {
  const made = { ...records } as unknown as Record<Kind, AnyRecord[]>;
  const touched = new Map<Kind, Map<string, AnyRecord | null>>();
  for (const operation of edit) {
    const kind = operation.kind as Kind;
    const id = operation.op === "put" ? (operation.record as AnyRecord).id : operation.id!;
    const changes = touched.get(kind) ?? new Map<string, AnyRecord | null>();
    touched.set(kind, changes);
    const before = changes.has(id) ? changes.get(id) : shelfOf(made[kind]).byId.get(id);
    if (operation.op === "put") changes.set(id, operation.record as AnyRecord);
    else if (operation.op === "drop") changes.set(id, null);
    else if (before) changes.set(id, { ...before, ...operation.set });
  }
  for (const [kind, changes] of touched) {
    const before = shelfOf(made[kind]);
    const kept = made[kind].flatMap((r) => (changes.has(r.id) ? (changes.get(r.id) ?? []) : r));
    made[kind] = [...kept, ...[...changes].flatMap(([id, r]) => (r && !before.byId.has(id) ? r : []))];
    if (changes.size <= FEW) shelves.set(made[kind], shelfAfter(before, changes));
  }
  return made as unknown as Records;
}

/** An endpoint with a tag that it is meant to use, as an end of a trace or ping. */
export const frameEnd = ({ key }: { key: string }, tag: string | undefined): string =>
  tag && tag !== "untagged" ? `${key}|${tag}` : key;

/** VIDs as people write them: 110, 200-219. */
export const writtenVids = (vids: readonly number[]): string =>
  runsOf(vids)
    .map(([a, b]) => (a === b ? a : `${a}-${b}`))
    .join(", ");

/** Numbers as runs of such that follow each other: the first and the last of each. */
export function runsOf(numbers: readonly number[]): [number, number][] {
  const runs: [number, number][] = [];
  for (const n of [...new Set(numbers)].sort((a, b) => a - b)) {
    const last = runs.at(-1);
    if (last && last[1] === n - 1) last[1] = n;
    else runs.push([n, n]);
  }
  return runs;
}

/** The VIDs of a list such as "110, 200-219"; an unreadable part is left out. */
export function vidsOf(text: string | null | undefined): Set<number> {
  const found = new Set<number>();
  for (const item of (text ?? "").split(",")) {
    const match = /^\s*(\d+)(?:\s*-\s*(\d+))?\s*$/.exec(item);
    if (!match) continue;
    const last = Number(match[2] ?? match[1]);
    for (let vid = Number(match[1]); vid <= Math.min(last, 4094); vid++) found.add(vid);
  }
  return found;
}

/** Whether a list such as "110, 200-219" names a VID. */
export function holdsVid(text: string, vid: number | null): boolean {
  return (
    vid !== null &&
    text.split(",").some((item) => {
      const [first = NaN, last = first] = item.split("-").map(Number);
      return first <= vid && vid <= last;
    })
  );
}

/** A list of VIDs in words: 0 is "untagged", an empty list "nothing". */
export function spokenVids(text: string): string {
  const items = text.split(/,\s*/).filter(Boolean);
  return items.map((item) => (item === "0" ? "untagged" : item)).join(", ") || "nothing";
}

/** A VID as typed, or null where it is none. */
export function readVid(text: string): number | null {
  const vid = /^\s*\d+\s*$/.test(text) ? Number(text) : 0;
  return vid >= 1 && vid <= 4094 ? vid : null;
}

/** An address as a number, and of how many bits; as records keep it, so without dots in IPv6. */
function addressBits(text: string): [bigint, number] {
  if (!text.includes(":")) return [text.split(".").reduce((sum, part) => sum * 256n + BigInt(part), 0n), 32];
  const [head = [], tail = []] = text.split("::").map((half) => half.split(":").filter(Boolean));
  const groups = [...head, ...Array<string>(8 - head.length - tail.length).fill("0"), ...tail];
  return [groups.reduce((sum, group) => sum * 65536n + BigInt(`0x${group}`), 0n), 128];
}

/** An address as people write it. */
export function addressText(address: bigint, bits: number): string {
  const step = bits === 32 ? 8n : 16n;
  const parts = Array.from({ length: bits === 32 ? 4 : 8 }, (_, n) =>
    ((address >> (BigInt(bits) - step * BigInt(n + 1))) & ((1n << step) - 1n)).toString(bits === 32 ? 10 : 16),
  );
  return bits === 32 ? parts.join(".") : parts.join(":").replace(/(:0)+$/, "::");
}

/** Whether an address (a prefix length behind it or not) is in a subnet. */
export function inSubnet(address: string, subnet: string): boolean {
  const [net = "", length = "0"] = subnet.split("/");
  const [one, bits] = addressBits(address.split("/")[0] ?? "");
  const [two, others] = addressBits(net);
  const rest = BigInt(bits - Number(length));
  return bits === others && one >> rest === two >> rest;
}

/** The first and last address of a subnet, and of how many bits they are. */
export function rangeOf(subnet: string): { first: bigint; last: bigint; bits: number } {
  const [net = "", length] = subnet.split("/");
  const [at, bits] = addressBits(net);
  const rest = BigInt(bits - Number(length ?? bits));
  const first = (at >> rest) << rest;
  return { first, last: first + (1n << rest) - 1n, bits };
}

/** The order of ranges by where they begin. */
export const byFirst = (a: { first: bigint }, b: { first: bigint }): number =>
  a.first < b.first ? -1 : a.first > b.first ? 1 : 0;

/** Speed as people say it: 10G, 1G, 100M. */
export function speed(mbits: number | null | undefined): string {
  if (!mbits) return "";
  return mbits >= 1000 ? `${mbits / 1000}G` : `${mbits}M`;
}

/** How a segment is drawn: a hue and a dash pattern, by its place among the segments. */
export function segmentStyle(number: number): { color: string; dash: string } {
  const dashes = ["", "9 4", "3 4", "12 3 3 3", "6 3", "14 5", "2 3", "10 3 2 3 2 3"];
  return { color: `var(--seg-${((number % 8) + 8) % 8})`, dash: dashes[((number % 8) + 8) % 8] ?? "" };
}
