import type { Endpoint, RecordOf } from "../api/client";
import type { Book } from "./records";
import { MARKS, type Mark } from "./verdicts";

/** What can be asked for by name, and what that says. */
export const QUERY_FIELDS = {
  verdict: "how it fares",
  host: "its host",
  site: "the host’s site",
  guest: "its guest or name",
  segment: "where it belongs, or lands",
  role: "the role of its segment",
  vid: "its segment’s VID, or a range: 200-299",
  address: "an address of its own",
  pattern: "a pattern of its host by name, none, or off",
  owner: "who answers for it, its guest, host or segment",
  note: "what is said of it, its guest, host or segment",
} as const;
export type QueryField = keyof typeof QUERY_FIELDS;

/** A query as it was read: words that stand anywhere, fields with values, and what can't be used. */
export interface Query {
  words: string[];
  pairs: { field: QueryField; value: string }[];
  wrong: string[];
}

/** Texts apart at blanks, unless within quotes. */
const parts = (text: string): string[] => text.match(/(?:[^\s"]|"[^"]*"?)+/g) ?? [];
const bare = (text: string): string => text.replaceAll('"', "").toLowerCase();

/** What somebody typed: words, and field:value pairs, each of which must hold. */
export function readQuery(text: string): Query {
  const made: Query = { words: [], pairs: [], wrong: [] };
  for (const part of parts(text)) {
    const [, name, value] = /^([a-z]+):(.*)$/i.exec(part) ?? [];
    if (name === undefined || value === undefined) made.words.push(bare(part));
    else if (!(name.toLowerCase() in QUERY_FIELDS)) {
      // A MAC or IPv6 address has colons too.
      if (/^[\da-f]{1,4}$/i.test(name)) made.words.push(bare(part));
      else made.wrong.push(`there is no field “${name}”: ${Object.keys(QUERY_FIELDS).join(", ")}`);
    } else if (value) made.pairs.push({ field: name.toLowerCase() as QueryField, value: bare(value) });
  }
  return made;
}

export const isEmpty = ({ words, pairs }: Query): boolean => words.length + pairs.length === 0;

type Tag = Endpoint["tags"][number];

/** Whether a host, an endpoint or one of its tags is what a query asks for. */
export interface Matcher {
  tag: (endpoint: Endpoint, tag: Tag) => boolean;
  /** A segment, by its name, role and VID. */
  segment: (segment: RecordOf<"segment">) => boolean;
  /** Any other record, by its name, note and owner, and the VIDs that it carries. */
  record: (record: { name?: string; note?: string; owner?: string }, carries?: string | null) => boolean;
  /** A host of which something is, or which is by itself what is asked. */
  host: (host: RecordOf<"host">, endpoints: readonly Endpoint[]) => boolean;
}

export function matcher({ words, pairs }: Query, book: Book, offPattern: readonly string[]): Matcher {
  const hosts = new Map(book.records.host.map((host) => [host.name, host]));
  const off = new Set(offPattern);
  const segmentsOf = (tag: Tag): RecordOf<"segment">[] =>
    [tag.belongs, tag.lands].flatMap((id) => book.get("segment", id) ?? []);
  const ofHost = (host: RecordOf<"host"> | undefined, field: QueryField, value: string): boolean | null => {
    if (!host) return null;
    if (field === "host") return host.name.toLowerCase().includes(value);
    if (field === "site") return (host.site ?? "").toLowerCase().includes(value);
    if (field !== "pattern") return null;
    const stamps = book.of("stamp", "host", host.id);
    if (value === "off") return off.has(host.id);
    if (value === "none") return stamps.length === 0;
    return stamps.some((s) => book.get("pattern", s.pattern)?.name.toLowerCase().includes(value));
  };
  const read = (id: unknown): Record<string, unknown> => (typeof id === "string" && book.byId.get(id)) || {};
  /** Who may say something of a place: itself, its guest or station, its segment, its host. */
  const about = (endpoint: Endpoint, tag: Tag): Record<string, unknown>[] => {
    const own = read(endpoint.id);
    return [own, ...[own.guest, own.station, tag.belongs, hosts.get(endpoint.host)?.id].map(read)];
  };
  const holds = (endpoint: Endpoint, tag: Tag, field: QueryField, value: string): boolean => {
    const own = ofHost(hosts.get(endpoint.host), field, value);
    if (own !== null) return own;
    switch (field) {
      case "verdict":
        return value === "idle" ? endpoint.idle : !endpoint.idle && tag.verdict.startsWith(value);
      case "guest":
        return endpoint.name.toLowerCase().includes(value);
      case "segment":
        return segmentsOf(tag).some((s) => s.name.toLowerCase().includes(value));
      case "role":
        return (book.get("segment", tag.belongs)?.role ?? "").toLowerCase().includes(value);
      case "vid":
        return inRange(book.get("segment", tag.belongs)?.vid ?? null, value);
      case "owner":
      case "note":
        return about(endpoint, tag).some((record) => says(record[field], value));
      case "address":
        return tag.addresses.some((address) => address.toLowerCase().startsWith(value));
      default:
        return false;
    }
  };
  const text = (endpoint: Endpoint, tag: Tag): string => {
    const mark: Mark = endpoint.idle ? "idle" : tag.verdict;
    const place = `${endpoint.name} ${endpoint.key} ${endpoint.host} ${endpoint.kind.replace("_", " ")} ${mark}`;
    const segments = segmentsOf(tag).map((s) => s.name);
    return [place, tag.tag, ...segments, tag.lands_vid ?? "", ...tag.addresses].join(" ").toLowerCase();
  };
  const tagHolds = (endpoint: Endpoint, tag: Tag): boolean => {
    if (!pairs.every(({ field, value }) => holds(endpoint, tag, field, value))) return false;
    if (!words.length) return true;
    const all = text(endpoint, tag);
    return words.every((word) => all.includes(word));
  };
  return {
    tag: tagHolds,
    segment: ({ name, role, vid, owner, note }) =>
      words.every((word) => `${name} ${role ?? ""} ${vid ?? ""}`.toLowerCase().includes(word)) &&
      pairs.every(({ field, value }) => {
        if (field === "vid") return inRange(vid ?? null, value);
        const said: Partial<Record<QueryField, string>> = { segment: name, role, owner, note };
        return said[field] !== undefined && says(said[field], value);
      }),
    record: ({ name, note, owner }, carries) =>
      words.every((word) => (name ?? "").toLowerCase().includes(word)) &&
      pairs.every(({ field, value }) => {
        if (field === "vid") return carries != null && overlaps(carries, value);
        const said: Partial<Record<QueryField, string>> = { note, owner };
        return said[field] !== undefined && says(said[field], value);
      }),
    host: (host, endpoints) => {
      const said = `${host.name} ${host.site ?? ""}`.toLowerCase();
      const byItself =
        words.every((word) => said.includes(word)) &&
        pairs.every(({ field, value }) =>
          field === "owner" || field === "note" ? says(host[field], value) : ofHost(host, field, value) === true,
        );
      return byItself || (pairs.length > 0 && endpoints.some((e) => e.tags.some((tag) => tagHolds(e, tag))));
    },
  };
}

/** Whether a set of VIDs has any of a range. */
function overlaps(carries: string, value: string): boolean {
  const asked = rangeAsked(value);
  return (
    asked !== null &&
    carries.split(",").some((part) => {
      const [first, last = first] = part.split("-").map(Number);
      return first! <= asked.high && last! >= asked.low;
    })
  );
}

function inRange(vid: number | null, value: string): boolean {
  const asked = rangeAsked(value);
  return asked !== null && vid !== null && vid >= asked.low && vid <= asked.high;
}

/** The VIDs that a value asks for: one, or from one to another. */
function rangeAsked(value: string): { low: number; high: number } | null {
  const [, low, high = low] = /^(\d+)(?:-(\d+))?$/.exec(value) ?? [];
  return low === undefined ? null : { low: Number(low), high: Number(high) };
}

/** Whether a text has a value in it, whatever the case. */
const says = (text: unknown, value: string): boolean =>
  String(text ?? "")
    .toLowerCase()
    .includes(value);

/** As many ways to go on as somebody would read. */
const MOST = 12;

/** How what is typed could go on: the last part as a field, or as one of the values that its field has here. */
export function goOn(text: string, book: Book): string[] {
  const last = /\s$/.test(text) ? "" : (parts(text).at(-1) ?? "");
  const before = text.slice(0, text.length - last.length);
  const [, field, value] = /^([a-z]+):(.*)$/i.exec(last) ?? [];
  const made =
    field === undefined
      ? Object.keys(QUERY_FIELDS)
          .filter((name) => name.startsWith(last.toLowerCase()))
          .map((name) => `${name}:`)
      : valuesOf(field.toLowerCase(), book)
          .filter((found) => found.toLowerCase().startsWith(bare(value ?? "")))
          .map((found) => `${field}:${/\s/.test(found) ? `"${found}"` : found}`);
  return made.slice(0, MOST).map((one) => before + one);
}

function valuesOf(field: string, book: Book): string[] {
  const { host, segment, pattern, guest } = book.records;
  const found: Record<string, () => (string | undefined)[]> = {
    verdict: () => [...MARKS],
    host: () => host.map((h) => h.name),
    site: () => host.map((h) => h.site),
    segment: () => segment.map((s) => s.name),
    role: () => segment.map((s) => s.role),
    vid: () => segment.map((s) => (s.vid ? String(s.vid) : undefined)),
    owner: () => [...host, ...segment, ...guest].map((record) => record.owner),
    pattern: () => ["off", "none", ...pattern.map((p) => p.name)],
  };
  return [...new Set((found[field]?.() ?? []).filter((value): value is string => Boolean(value)))].sort();
}
