import type { Endpoint, Finding, RecordOf } from "../api/client";
import type { Book } from "../model/records";
import type { Mark } from "../model/verdicts";

/** A place, tag by tag. */
export interface Row {
  endpoint: Endpoint;
  tag: Endpoint["tags"][number];
  finding: Finding | undefined;
  mark: Mark;
}

export interface Column {
  id: string;
  title: string;
  hint?: string;
  /** It stands always, since rows are told apart and picked by it. */
  always?: true;
  /** It stands unless somebody chose others. */
  usual?: true;
  /** Numbers and addresses, which stand in a face of one width. */
  mono?: true;
  /** The most that it takes when there isn't room for all, in px. */
  most: number;
  /** What it takes beside its text, in px. */
  beside?: number;
  /** What is copied out of it. */
  text: (row: Row, book: Book) => string;
  /** What stands in it, where that is shorter. */
  short?: (row: Row, book: Book) => string;
}

const segmentOf = ({ tag }: Row, book: Book) => book.get("segment", tag.belongs);
const adapterOf = ({ endpoint }: Row, book: Book) => book.get("adapter", endpoint.id);
/** What people say of a place by its note and owner: of itself, else of its guest or station. */
const said = (field: "note" | "owner", { endpoint }: Row, book: Book): string => {
  const own = book.byId.get(endpoint.id) as { guest?: string; station?: string; note?: string; owner?: string };
  const whole = book.get("guest", own?.guest) ?? book.get("station", own?.station);
  return own?.[field] || (whole?.[field] ?? "");
};

/** Where a place lands, in words. */
export function landsOn({ tag }: Row, book: Book): string {
  if (tag.lands) return book.get("segment", tag.lands)?.name ?? "";
  if (tag.lands_vid === null || (tag.lands_vid === 0 && tag.verdict === "astray")) return "nowhere";
  return tag.lands_vid === 0 ? "untagged" : "no segment";
}

/** The segments that a place could hear or reach by sending what it isn't meant to. */
export const beyond = ({ endpoint }: Row, book: Book): RecordOf<"segment">[] =>
  (book.could[endpoint.id] ?? []).map((id) => book.get("segment", id)!);
const tagOf = (segment: RecordOf<"segment">): string => String(segment.vid ?? segment.name);

const sites = new WeakMap<Book, Map<string, string>>();
function siteOf(host: string, book: Book): string {
  const known = sites.get(book) ?? new Map(book.records.host.map((h) => [h.name, h.site ?? ""]));
  sites.set(book, known);
  return known.get(host) ?? "";
}

/** Everything that can be seen of a place, in the order in which it stands. */
export const COLUMNS: readonly Column[] = [
  { id: "verdict", title: "Verdict", always: true, usual: true, most: 84, beside: 18, text: ({ mark }) => mark },
  { id: "endpoint", title: "Endpoint", always: true, usual: true, most: 108, text: ({ endpoint }) => endpoint.name },
  { id: "kind", title: "Kind", most: 90, text: ({ endpoint }) => endpoint.kind.replaceAll("_", " ") },
  { id: "host", title: "Host", usual: true, most: 74, text: ({ endpoint }) => endpoint.host },
  { id: "site", title: "Site", most: 90, text: ({ endpoint }, book) => siteOf(endpoint.host, book) },
  { id: "tag", title: "Tag", usual: true, mono: true, most: 60, text: ({ tag }) => tag.tag },
  {
    id: "port_group",
    title: "Port group",
    most: 110,
    text: (row, book) => book.get("port_group", adapterOf(row, book)?.port_group)?.name ?? "",
  },
  {
    id: "belongs",
    title: "Belongs on",
    usual: true,
    most: 100,
    text: (row, book) => `${segmentOf(row, book)?.name ?? "not said"} ${segmentOf(row, book)?.vid ?? ""}`,
  },
  {
    id: "lands",
    title: "Lands on",
    usual: true,
    most: 88,
    text: (row, book) => `${landsOn(row, book)} ${row.tag.lands_vid || ""}`,
  },
  { id: "role", title: "Role", most: 90, text: (row, book) => segmentOf(row, book)?.role ?? "" },
  {
    id: "address",
    title: "Address",
    usual: true,
    mono: true,
    most: 106,
    text: ({ tag }) => [...tag.addresses.map((a) => a.split("/")[0]), ...(tag.got ? [tag.got] : [])].join(" "),
    short: ({ tag }) => tag.addresses[0]?.split("/")[0] ?? tag.got,
  },
  { id: "mac", title: "MAC", mono: true, most: 124, text: (row, book) => adapterOf(row, book)?.mac ?? "" },
  {
    id: "gateway",
    title: "Gateway",
    usual: true,
    mono: true,
    most: 80,
    text: (row, book) => segmentOf(row, book)?.gateways?.join(" ") ?? "",
    short: (row, book) => segmentOf(row, book)?.gateways?.[0] ?? "",
  },
  {
    id: "lease_servers",
    title: "Addresses from",
    hint: "Who leases it an address, or advertises its prefix; else the lease servers that its segment names",
    most: 110,
    text: (row, book) => row.tag.got_from || (segmentOf(row, book)?.lease_servers?.join(", ") ?? ""),
  },
  {
    id: "could",
    title: "Could",
    hint: "Segments that it could hear or reach by sending what it isn’t meant to",
    usual: true,
    most: 48,
    text: (row, book) => beyond(row, book).map(tagOf).join(", "),
    short: (row, book) => {
      const found = beyond(row, book);
      return found.length > 1 ? `${found.length} VIDs` : found.map(tagOf).join("");
    },
  },
  { id: "owner", title: "Owner", most: 100, text: (row, book) => said("owner", row, book) },
  { id: "note", title: "Note", most: 140, text: (row, book) => said("note", row, book) },
  { id: "mend", title: "Mend", usual: true, most: 136, text: ({ finding }) => finding?.title ?? "" },
];

export const USUAL: readonly string[] = COLUMNS.filter((column) => column.usual).map((column) => column.id);

/** So many rows are looked at to see how wide a column is. */
const SAMPLE = 1500;
const LETTER = 6.4;
const MONO_LETTER = 7;
const LEAST = 40;
/** What a cell leaves free at both sides together, in px. */
const PADDING = 8;
/** No column gets wider than this of itself. */
const WIDEST = 420;

/** The columns' widths in px: as much as each holds, less where there isn't room; the last one has all that is left. */
export function fitting(columns: readonly Column[], rows: readonly Row[], book: Book, room: number): number[] {
  const step = Math.max(1, Math.floor(rows.length / SAMPLE));
  const widths = columns.map(({ title, text, short = text, mono, beside = 0 }) => {
    let longest = title.length + 2;
    for (let n = 0; n < rows.length; n += step) longest = Math.max(longest, short(rows[n]!, book).length);
    const wide = Math.ceil(longest * (mono ? MONO_LETTER : LETTER)) + 2 + beside;
    return Math.min(WIDEST, Math.max(LEAST, wide)) + PADDING;
  });
  const least = widths.map((width, n) => Math.min(width, columns[n]!.most + PADDING));
  const sum = (all: readonly number[]): number => all.reduce((a, b) => a + b, 0);
  // Of what there is beyond the least each has as much as the others, until it lacks nothing: a name that lacks
  // little stands whole before a sentence gets more.
  const lacks = widths.map((width, n) => width - least[n]!);
  const given = [...least];
  let free = Math.max(0, room - sum(least));
  [...lacks.keys()]
    .sort((a, b) => lacks[a]! - lacks[b]!)
    .forEach((n, done) => {
      const more = Math.min(lacks[n]!, Math.floor(free / (lacks.length - done)));
      given[n]! += more;
      free -= more;
    });
  given[given.length - 1]! += Math.max(0, room - sum(given));
  return given;
}
