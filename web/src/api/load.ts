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

const ENDPOINTS = "endpoint:";

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
    const records = Object.fromEntries(Object.keys(head.size).map((kind) => [kind, []])) as unknown as Records;
    const endpoints = new Map<string, Endpoint>();
    let done = 0;
    const count = (more: number): void => progress((done += more), all);
    // Side by side, so that the server writes a page while the browser reads another.
    const whole = await Promise.all([
      pages(id, undefined, head.revision, records, endpoints, signal, count),
      pages(id, `${ENDPOINTS}0`, head.revision, null, endpoints, signal, count),
    ]);
    if (whole.every(Boolean))
      return {
        id,
        name: head.name,
        draft_of: head.draft_of,
        revision: head.revision,
        records,
        ...byHost(endpoints),
        summary: head.summary,
        steps: head.steps,
        authors: new Map(),
      };
  }
}

type Landed = Pick<PlanData, "endpoints" | "ofHost">;

function byHost(endpoints: ReadonlyMap<string, Endpoint>): Landed {
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
  const endpoints = new Map<string, Endpoint>();
  const whole = await pages(id, `${ENDPOINTS}0`, revision, null, endpoints, undefined, () => undefined);
  return whole ? byHost(endpoints) : null;
}

/**
 * Pages from a cursor on: of records as far as the first endpoints, or (without `records`) of endpoints; whether
 * they were all of the revision.
 */
async function pages(
  id: string,
  from: string | undefined,
  revision: number,
  records: Records | null,
  endpoints: Map<string, Endpoint>,
  signal: AbortSignal | undefined,
  count: (more: number) => void,
): Promise<boolean> {
  const take = (page: Page): void => {
    if (records)
      for (const [kind, found] of Object.entries(page.records))
        for (const rows of found) {
          for (const record of unfold(rows)) (records[kind as Kind] as unknown[]).push(record);
          count(rows.count);
        }
    else
      for (const rows of page.endpoints) {
        for (const endpoint of unfoldEndpoints(rows)) endpoints.set(endpoint.id, endpoint);
        count(rows.count);
      }
  };
  let page = await one(id, from, signal);
  for (;;) {
    if (page.revision !== revision) return false;
    // On its way while this one is read.
    const more = page.next && !(records && page.next.startsWith(ENDPOINTS)) ? one(id, page.next, signal) : null;
    const [next] = await Promise.all([more, page.read().then(take)]);
    if (!next) return true;
    page = next;
  }
}

/** Items out of their columns. */
function unfold({ count, fields }: Rows): Record<string, unknown>[] {
  const made = Array.from({ length: count }, (): Record<string, unknown> => ({}));
  for (const [name, column] of Object.entries(fields)) {
    const [values, at] = Array.isArray(column) ? [column, null] : [column.values, column.at];
    for (let n = 0; n < count; n++) {
      const value: unknown = values[at ? at[n]! : n];
      if (value !== null) made[n]![name] = value;
    }
  }
  return made;
}

/** Endpoints out of their columns: a tag is there its record (null: the endpoint), its addresses, where it lands. */
function unfoldEndpoints(rows: EndpointRows): Endpoint[] {
  const made = unfold(rows);
  for (const row of made)
    row.tags = (row.tags as [string | null, string[], number][]).map(([record, addresses, at]) => ({
      ...rows.landed[at]!,
      record: record ?? row.id,
      addresses,
    }));
  return made as unknown as Endpoint[];
}

/** A page as soon as it begins to come: of which revision it is, where the next one begins, and how to have it. */
async function one(id: string, after: string | undefined, signal: AbortSignal | undefined) {
  const path = { path: { plan_id: id }, query: { after } };
  const answer = await api.GET("/api/plans/{plan_id}/page", { params: path, signal, parseAs: "stream" });
  unwrap(answer);
  const { headers } = answer.response;
  const next = /<([^>]*)>; rel="next"/.exec(headers.get("Link") ?? "")?.[1];
  return {
    revision: Number(/\d+/.exec(headers.get("ETag") ?? "")?.[0]),
    next: next && new URL(next, location.origin).searchParams.get("after"),
    read: () => answer.response.json() as Promise<Page>,
  };
}
