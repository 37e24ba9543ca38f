import type { Kind } from "./client";
import { api, unwrap, type Endpoint, type Records, type Snapshot } from "./client";

/** A whole plan as the browser holds it. */
export interface PlanData {
  id: string;
  name: string;
  /** The plan of which it is a draft. */
  draft_of: string | null;
  revision: number;
  records: Records;
  endpoints: ReadonlyMap<string, Endpoint>;
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
        endpoints,
        summary: head.summary,
        steps: head.steps,
        authors: new Map(),
      };
  }
}

/** All endpoints at a revision; null where the plan has moved on. */
export async function loadEndpoints(id: string, revision: number): Promise<Map<string, Endpoint> | null> {
  const endpoints = new Map<string, Endpoint>();
  return (await pages(id, `${ENDPOINTS}0`, revision, null, endpoints, undefined, () => undefined)) ? endpoints : null;
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
  let after: string | null | undefined = from;
  do {
    const page: Awaited<ReturnType<typeof one>> = await one(id, after ?? undefined, signal);
    if (page.revision !== revision) return false;
    if (records) {
      for (const [kind, found] of Object.entries(page.records)) {
        (records[kind as Kind] as unknown[]).push(...found);
        count(found.length);
      }
    } else {
      for (const endpoint of page.endpoints) endpoints.set(endpoint.id, endpoint);
      count(page.endpoints.length);
    }
    after = page.next;
  } while (after && !(records && after.startsWith(ENDPOINTS)));
  return true;
}

const one = async (id: string, after: string | undefined, signal: AbortSignal | undefined) =>
  unwrap(await api.GET("/api/plans/{plan_id}/page", { params: { path: { plan_id: id }, query: { after } }, signal }));
