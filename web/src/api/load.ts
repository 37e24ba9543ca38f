import { over, type Reading } from "../model/over";
import type { Kind } from "./client";
import {
  api,
  unwrap,
  type Endpoint,
  type EndpointRows,
  type Page,
  type Records,
  type Rows,
  type Snapshot,
} from "./client";

/** A whole plan as the browser holds it. */
export interface PlanData {
  id: string;
  name: string;
  /** The plan of which it is a draft. */
  draft_of: string | null;
  revision: number;
  records: Records;
  endpoints: Reading<string, Endpoint>;
  /** The endpoints of each host, by its name; the same list for as long as none of them differs. */
  ofHost: ReadonlyMap<string, readonly Endpoint[]>;
  summary: Snapshot["summary"];
  steps: Snapshot["steps"];
  /** Who changed each record last, as far as that was while the plan is open. */
  authors: ReadonlyMap<string, string>;
}

export type Progress = (done: number, all: number) => void;

const ENDPOINT = "endpoint";

/** What a page holds of one kind; the page itself, unread, where that is all it holds. */
interface Part {
  kind: string;
  rows: readonly object[] | ArrayBuffer;
  count: number;
}

/** Records of one kind, read once somebody asks for them: from far nobody asks for guests and adapters. */
class Shelf {
  readonly kind: Kind;
  private parts: (readonly object[] | ArrayBuffer)[];

  constructor(kind: Kind, parts: readonly Part[]) {
    this.kind = kind;
    this.parts = parts.map(({ rows }) => rows);
  }

  /** Read one of the pages that nobody has read yet; whether there was one. */
  readOne(): boolean {
    const at = this.parts.findIndex((part) => part instanceof ArrayBuffer);
    if (at < 0) return false;
    const page = JSON.parse(new TextDecoder().decode(this.parts[at] as ArrayBuffer)) as Page;
    this.parts[at] = page.records[this.kind]!.flatMap(unfold);
    return true;
  }

  /** All of them; the same list each time. */
  all(): readonly object[] {
    while (this.readOne());
    if (this.parts.length !== 1) this.parts = [(this.parts as object[][]).flat()];
    return this.parts[0] as readonly object[];
  }
}

/** What nobody has asked for when the first view has been drawn is read once there is nothing else to do. */
const DRAWN = 1000;

function readAtLeisure(shelves: readonly Shelf[]): void {
  const more = (): void => {
    if (shelves.some((shelf) => shelf.readOne())) whenIdle(more);
  };
  setTimeout(() => whenIdle(more), DRAWN);
}

// Not every browser tells when it is idle.
const whenIdle = (act: () => void): unknown =>
  "requestIdleCallback" in globalThis ? requestIdleCallback(act) : setTimeout(act, 100);

/**
 * Pages of one revision make the plan; where somebody edits meanwhile, it is begun anew. What it says of itself is told
 * before its records come.
 */
export async function loadPlan(
  id: string,
  signal: AbortSignal,
  begun: (head: Snapshot) => void,
  progress: Progress,
): Promise<PlanData> {
  for (;;) {
    const head = unwrap(await api.GET("/api/plans/{plan_id}", { params: { path: { plan_id: id } }, signal }));
    begun(head);
    const all =
      Object.values(head.size).reduce((a, b) => a + b, 0) + (head.size.adapter ?? 0) + (head.size.host_port ?? 0);
    let done = 0;
    const count = (more: number): void => progress((done += more), all);
    const parts = await pages(id, head.pages, head.revision, signal, count);
    if (!parts) continue;
    const of = Map.groupBy(parts, ({ kind }) => kind);
    const shelves = Object.keys(head.size).map((kind) => new Shelf(kind as Kind, of.get(kind) ?? []));
    const records = {} as Records;
    for (const shelf of shelves)
      Object.defineProperty(records, shelf.kind, { enumerable: true, get: () => shelf.all() });
    readAtLeisure(shelves);
    return {
      id,
      name: head.name,
      draft_of: head.draft_of,
      revision: head.revision,
      records,
      ...byHost(parts),
      summary: head.summary,
      steps: head.steps,
      authors: new Map(),
    };
  }
}

type Landed = Pick<PlanData, "endpoints" | "ofHost">;

function byHost(parts: readonly Part[]): Landed {
  const endpoints = new Map<string, Endpoint>();
  for (const { kind, rows } of parts)
    if (kind === ENDPOINT) for (const endpoint of rows as readonly Endpoint[]) endpoints.set(endpoint.id, endpoint);
  return { endpoints, ofHost: Map.groupBy(endpoints.values(), (endpoint) => endpoint.host) };
}

/** Endpoints after an edit that took some away, and after which some land anew. */
export function landAnew(known: Landed, gone: Iterable<string>, landed: readonly Endpoint[]): Landed {
  const news = new Map<string, Endpoint | undefined>();
  const ofHost = new Map(known.ofHost);
  const hosts = new Map<string, Endpoint[]>();
  const touch = (host: string | undefined): void =>
    void (host !== undefined && !hosts.has(host) && hosts.set(host, []));
  for (const id of gone) {
    touch(known.endpoints.get(id)?.host);
    news.set(id, undefined);
  }
  for (const endpoint of landed) {
    const before = news.has(endpoint.id) ? undefined : known.endpoints.get(endpoint.id);
    touch(before?.host);
    touch(endpoint.host);
    if (before?.host !== endpoint.host) hosts.get(endpoint.host)!.push(endpoint);
    news.set(endpoint.id, endpoint);
  }
  const endpoints = over(known.endpoints, news);
  for (const [host, come] of hosts) {
    const there = (known.ofHost.get(host) ?? []).flatMap((endpoint) => endpoints.get(endpoint.id) ?? []);
    const own = [...there.filter((endpoint) => endpoint.host === host), ...come];
    if (own.length) ofHost.set(host, own);
    else ofHost.delete(host);
  }
  return { endpoints, ofHost };
}

/** All endpoints at a revision; null where the plan has moved on. */
export async function loadEndpoints(id: string, revision: number): Promise<Landed | null> {
  const parts = await pages(id, [`${ENDPOINT}:0`], revision, undefined, () => undefined);
  return parts && byHost(parts);
}

/**
 * What is on all pages of a revision, in their order; null where the plan has moved on. They begin at these cursors;
 * where others follow on one that aren't named, they are asked for once it has come.
 */
async function pages(
  id: string,
  cursors: readonly string[],
  revision: number,
  signal: AbortSignal | undefined,
  count: (more: number) => void,
): Promise<Part[] | null> {
  const found = cursors.map((): Part[] => []);
  const waiting = [...cursors.keys()];
  let moved = false;
  const take = async (n: number): Promise<void> => {
    const [own] = place(cursors[n]!);
    // Records and endpoints are rows of pages of their own; the last page of records may begin with endpoints.
    const inRow = (kind: string): boolean => (kind === ENDPOINT) === (own === ENDPOINT);
    let page = await one(id, cursors[n]!, signal);
    for (;;) {
      moved ||= page.revision !== revision;
      if (moved) return;
      const { next } = page;
      const leads = next && !cursors.includes(next) && inRow(place(next)[0]);
      // On its way while this one is read.
      const [following, parts] = await Promise.all([leads ? one(id, next, signal) : null, page.read()]);
      for (const part of parts)
        if (inRow(part.kind)) {
          found[n]!.push(part);
          count(part.count);
        }
      if (!following) return;
      page = following;
    }
  };
  // Records need no reading yet, and endpoints do: they are asked for in turns, from both ends.
  const work = async (next: () => number | undefined): Promise<void> => {
    for (let n = next(); n !== undefined && !moved; n = next()) await take(n);
  };
  const ends = [() => waiting.pop(), () => waiting.shift()];
  await Promise.all([...ends, ...ends].map(work));
  return moved ? null : found.flat();
}

/** The kind of which a cursor speaks, and how many of them are on earlier pages. */
function place(cursor: string): [string, number] {
  const [kind = "", first] = cursor.split(":");
  return [kind, Number(first)];
}

/** What stands in a column, row by row. */
function reader(column: Rows["fields"][string]): (row: number) => unknown {
  if (Array.isArray(column)) return (row) => column[row];
  const { values, at } = column;
  return (row) => values[at[row]!];
}

/** Records out of their columns. */
function unfold({ count, fields }: Rows): Record<string, unknown>[] {
  const made = Array.from({ length: count }, (): Record<string, unknown> => ({}));
  for (const [name, column] of Object.entries(fields)) {
    const read = reader(column);
    for (let row = 0; row < count; row++) {
      const value = read(row);
      if (value !== null) made[row]![name] = value;
    }
  }
  return made;
}

/** What is said of where a tag lands. */
type Landing = Omit<Endpoint["tags"][number], "record" | "addresses">;

/** Of each tag its record (null: the endpoint), its addresses, and where it lands, as a place in `landed`. */
type Packed = [string | null, string[], number][];

/**
 * An endpoint out of its columns. Its tags are most of what there is to make of many endpoints, and seldom asked for:
 * they are made when they are.
 */
class Unfolded implements Endpoint {
  readonly id: string;
  readonly kind: string;
  readonly host: string;
  readonly name: string;
  readonly verdict: Endpoint["verdict"];
  readonly idle: boolean;
  private readonly own: string;
  private readonly packed: Packed;
  private readonly landed: readonly Landing[];
  private made?: Endpoint["tags"];

  constructor(field: (name: string) => unknown, landed: readonly Landing[]) {
    this.id = field("id") as string;
    this.kind = field("kind") as string;
    this.own = field("own") as string;
    this.host = field("host") as string;
    this.name = field("name") as string;
    this.verdict = field("verdict") as Endpoint["verdict"];
    this.idle = field("idle") as boolean;
    this.packed = field("tags") as Packed;
    this.landed = landed;
  }

  get key(): string {
    return `${this.host}/${this.own}`;
  }

  get tags(): Endpoint["tags"] {
    return (this.made ??= this.packed.map(([record, addresses, at]) => ({
      ...this.landed[at]!,
      record: record ?? this.id,
      addresses,
    })));
  }
}

/** What is made of each row of some columns. */
function fromRows<T>({ count, fields }: Rows, make: (field: (name: string) => unknown) => T): T[] {
  const readers = new Map(Object.entries(fields).map(([name, column]) => [name, reader(column)]));
  return Array.from({ length: count }, (_, row) => make((name) => readers.get(name)!(row)));
}

/** Endpoints out of their columns. */
function unfoldEndpoints(rows: EndpointRows): Endpoint[] {
  const names = Object.keys(rows.landed.fields);
  const places = fromRows(rows.landed, (field) => Object.fromEntries(names.map((n) => [n, field(n)])) as Landing);
  return fromRows(rows, (field) => new Unfolded(field, places));
}

/** A page as soon as it begins to come: of which revision it is, where the next one begins, and how to read it. */
async function one(id: string, cursor: string, signal: AbortSignal | undefined) {
  const path = { path: { plan_id: id }, query: { after: cursor } };
  const answer = await api.GET("/api/plans/{plan_id}/page", { params: path, signal, parseAs: "stream" });
  unwrap(answer);
  const { headers } = answer.response;
  const link = /<([^>]*)>; rel="next"/.exec(headers.get("Link") ?? "")?.[1];
  const next = link ? new URL(link, location.origin).searchParams.get("after") : null;
  return {
    revision: Number(/\d+/.exec(headers.get("ETag") ?? "")?.[0]),
    next,
    read: async (): Promise<Part[]> => {
      const [kind, first] = place(cursor);
      const [nextKind, end] = place(next ?? "");
      if (kind === nextKind && kind !== ENDPOINT)
        return [{ kind, rows: await answer.response.arrayBuffer(), count: end - first }];
      const page = (await answer.response.json()) as Page;
      const parts = Object.entries(page.records).flatMap(([kind, found]) =>
        found.map((rows): Part => ({ kind, rows: unfold(rows), count: rows.count })),
      );
      for (const rows of page.endpoints) parts.push({ kind: ENDPOINT, rows: unfoldEndpoints(rows), count: rows.count });
      return parts;
    },
  };
}
