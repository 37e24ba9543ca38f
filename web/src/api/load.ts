import type { Kind } from "./client";
import { api, unwrap, type Endpoint, type Records, type Snapshot } from "./client";

/** A whole plan as the browser holds it. */
export interface PlanData {
  id: string;
  name: string;
  revision: number;
  records: Records;
  endpoints: ReadonlyMap<string, Endpoint>;
  summary: Snapshot["summary"];
  steps: Snapshot["steps"];
}

export type Progress = (done: number, all: number) => void;

/** Pages of one revision make the plan; where somebody edits meanwhile, it is begun anew. */
export async function loadPlan(id: string, signal: AbortSignal, progress: Progress): Promise<PlanData> {
  for (;;) {
    const head = unwrap(await api.GET("/api/plans/{plan_id}", { params: { path: { plan_id: id } }, signal }));
    const all = Object.values(head.size).reduce((a, b) => a + b, 0) + (head.size.adapter ?? 0) + (head.size.host_port ?? 0);
    const records = Object.fromEntries(Object.keys(head.size).map((kind) => [kind, []])) as unknown as Records;
    const loaded = await pages(id, undefined, head.revision, records, signal, (done) => progress(done, all));
    if (loaded) return { id, name: head.name, revision: head.revision, records, endpoints: loaded, summary: head.summary, steps: head.steps };
  }
}

/** All endpoints at a revision; null where the plan has moved on. */
export async function loadEndpoints(id: string, revision: number): Promise<Map<string, Endpoint> | null> {
  return pages(id, "endpoint:0", revision, null, undefined, () => undefined);
}

async function pages(id: string, from: string | undefined, revision: number, records: Records | null, signal: AbortSignal | undefined, progress: (done: number) => void): Promise<Map<string, Endpoint> | null> {
  const endpoints = new Map<string, Endpoint>();
  let after: string | null | undefined = from;
  let done = 0;
  do {
    const page: Awaited<ReturnType<typeof one>> = await one(id, after ?? undefined, signal);
    if (page.revision !== revision) return null;
    for (const [kind, found] of Object.entries(page.records)) {
      done += found.length;
      if (records) (records[kind as Kind] as unknown[]).push(...found);
    }
    for (const endpoint of page.endpoints) endpoints.set(endpoint.id, endpoint);
    progress(done + endpoints.size);
    after = page.next;
  } while (after);
  return endpoints;
}

const one = async (id: string, after: string | undefined, signal: AbortSignal | undefined) =>
  unwrap(await api.GET("/api/plans/{plan_id}/page", { params: { path: { plan_id: id }, query: { after } }, signal }));
