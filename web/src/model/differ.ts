import type { Kind, RecordOf } from "../api/client";
import { hostOf, type Book } from "./records";

type Item = Record<string, unknown> & { id: string };

/** Where more than this differs, nobody asks of which hosts it is. */
const FEW = 200;

/** What of a book is another than before. */
export interface Differing {
  /** The hosts of which a part differs, or what the engine says of it. */
  hosts: ReadonlySet<string>;
  /** Whether something differs that is no part of any host, such as a segment. */
  elsewhere: boolean;
}

/** The kinds whose records are parts of a host, or stand at one, and the fields that say of which. */
const PARTS: { [K in Kind]?: readonly (keyof RecordOf<K>)[] } = {
  virtual_switch: ["host"],
  uplink: ["switch"],
  nic: ["id"],
  host_port: ["switch"],
  port_group: ["switch"],
  group_order: ["port_group"],
  guest: ["host"],
  adapter: ["guest"],
  guest_tag: ["adapter"],
  mirror: ["source"],
  fabric_port: ["id"],
  cable: ["a", "b"],
};

/** The hosts that differ between two books of one plan; null where very much does. */
export function differing(before: Book, now: Book): Differing | null {
  const hosts = new Set<string>();
  let elsewhere = false;
  let many = 0;
  const note = (book: Book, ids: readonly unknown[]): void => {
    const found = ids.flatMap((id) => (typeof id === "string" ? hostsOf(book, id) : []));
    for (const host of found) hosts.add(host);
    elsewhere ||= !found.length;
    many++;
  };
  for (const kind of Object.keys(now.records) as Kind[]) {
    const fields = (PARTS[kind] ?? []) as readonly string[];
    const named = (item: Item): unknown[] => fields.map((field) => item[field]);
    for (const [was, is] of pairs(before.records[kind] as unknown as Item[], now.records[kind] as unknown as Item[])) {
      if (was) note(before, named(was));
      if (is) note(now, named(is));
      if (many > FEW) return null;
    }
  }
  const { teams } = now;
  for (const [was, is] of [
    [before.teams.members, teams.members],
    [before.teams.carries, teams.carries],
    [before.teams.reach, teams.reach],
    [before.could, now.could],
  ] as const)
    for (const key of keys(was, is)) {
      note(now, [key]);
      if (many > FEW) return null;
    }
  return { hosts, elsewhere };
}

/** The host of a record, and of what is at the other end of its cable: each of the two says so of the other. */
const hostsOf = (book: Book, id: string): string[] => [
  ...new Set([id, book.far.get(id)?.id].flatMap((end) => (end && hostOf(book, end)) ?? [])),
];

/** The records of two lists that aren't the same: before and now. Both are in one order, as an edit leaves it. */
function* pairs(before: readonly Item[], now: readonly Item[]): Generator<[Item | undefined, Item | undefined]> {
  if (before === now) return;
  let at = 0;
  for (const was of before) {
    const is = now[at];
    if (was === is) at++;
    else if (was.id === is?.id) {
      yield [was, is];
      at++;
    } else yield [was, undefined];
  }
  for (; at < now.length; at++) yield [undefined, now[at]];
}

/** The keys under which two objects have something else. */
function* keys(before: Record<string, unknown>, now: Record<string, unknown>): Generator<string> {
  if (before === now) return;
  for (const key in now) if (now[key] !== before[key]) yield key;
  for (const key in before) if (!(key in now)) yield key;
}
