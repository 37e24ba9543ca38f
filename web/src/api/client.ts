import createClient from "openapi-fetch";

import type { components, paths } from "./schema";

type Schemas = components["schemas"];
export type Records = Schemas["Records"];
export type Kind = keyof Records;
export type RecordOf<K extends Kind> = Records[K][number];
export type Summary = Schemas["Summary"];
export type SummaryChange = Schemas["SummaryChange"];
export type Page = Schemas["Page"];
export type Rows = Schemas["Rows"];
export type EndpointRows = Schemas["EndpointRows"];
export type Endpoint = Schemas["Endpoint"];
export type Finding = Schemas["Finding"];
export type Accepted = Schemas["Accepted"];
export type FindingDetail = Schemas["FindingDetail"];
export type Trace = Schemas["Trace"];
export type RuleTold = Schemas["RuleTold"];
export type RuleRead = Schemas["RuleRead"];
export type Ping = Schemas["Ping"];
export type Way = Schemas["Way"];
export type Mend = Schemas["Mend"];
export type Tally = Schemas["Tally"];
export type Move = Schemas["Move"];
export type Operation = Schemas["Operation"];
export type Snapshot = Schemas["Snapshot"];
export type Committed = Schemas["Committed"];
export type Piece = Schemas["Piece"];
export type Knot = Schemas["Knot"];
export type Ear = Schemas["Ear"];
export type QueuePlan = Schemas["QueuePlan"];
export type Load = Schemas["Load"];
export type LoadWidth = Schemas["LoadWidth"];
export type TakenReadings = Schemas["TakenReadings"];
export type TakenSheet = Schemas["TakenSheet"];
export type TakenTopology = Schemas["TakenTopology"];
export type Carried = Schemas["Carried"];
export type PlanItem = Schemas["PlanItem"];
export type PreviewResult = Schemas["PreviewResult"];
export type Reading = Schemas["Reading"];
export type RevisionEvent = Schemas["RevisionEvent"];
export type RevisionTold = Schemas["RevisionTold"];
export type AnswersChange = Schemas["AnswersChange"];
export type Refusal = Schemas["Refusal"];
export type BenchItem = Schemas["BenchItem"];
export type BenchDetail = Schemas["BenchDetail"];
export type BenchReport = Schemas["BenchReport"];
export type HistoryItem = Schemas["HistoryItem"];
export type Comparison = Schemas["Comparison"];
export type Draft = Schemas["Draft"];
export type Clash = Schemas["Clash"];
export type Choice = Schemas["Choice"];
export type Rebasing = Schemas["Rebasing"];
export type GestureResult = Schemas["GestureResult"];
export type Patterns = Schemas["Patterns"];
export type Stamped = Schemas["Stamped"];
export type Off = Schemas["Off"];
export type Change = Schemas["Change"];
export type Verdict = Endpoint["verdict"];

/** What the server refused, with every problem it named. */
export class Refused extends Error {
  status: number;
  lines: string[];

  constructor(status: number, refusal: Refusal | undefined) {
    const lines = refusal?.problems?.map((p) => p.text) ?? [];
    super(lines.length ? lines.join("\n") : (refusal?.detail ?? "The server didn’t say why."));
    this.status = status;
    this.lines = lines.length ? lines : [this.message];
  }
}

function token(): string {
  return /(?:^|; )csrftoken=([^;]*)/.exec(document.cookie)?.[1] ?? "";
}

let looking: { plan: string; revision: number } | null = null;

/** From now on what this page asks of a plan is about an earlier revision of it; null: about the plan as it is. */
export function lookAt(at: { plan: string; revision: number } | null): void {
  looking = at;
}

/** The parts of a plan that can be asked about an earlier revision. */
const PARTS =
  "page|verdicts|findings/.*|preview|trace|ping|strand|segment-alone|cable-alone|lattice|teams|could|tree|bench|" +
  "gestures|patterns|rules|rule";
const PAST = new RegExp(`^/api/plans/([^/]+)(/(${PARTS}))?$`);

async function asOf(request: Request): Promise<Request> {
  const url = new URL(request.url);
  const [, plan, part] = PAST.exec(url.pathname) ?? [];
  const asks = request.method === "GET" || part === "/preview" || part === "/bench" || part === "/gestures";
  if (looking === null || plan !== looking.plan || !asks) return request;
  url.searchParams.set("at", String(looking.revision));
  // A body is read first: a stream can't be handed on to another request everywhere.
  const body = request.method === "GET" ? undefined : await request.text();
  return new Request(url, { method: request.method, headers: request.headers, body, signal: request.signal });
}

export const api = createClient<paths>({
  baseUrl: "",
  fetch: async (asked: Request) => {
    const request = await asOf(asked);
    if (request.method !== "GET") request.headers.set("X-CSRFToken", token());
    return fetch(request);
  },
});

/** The data of an answer, or a Refused. */
export function unwrap<T>(answer: { data?: T; error?: unknown; response: Response }): T {
  if (answer.error !== undefined || answer.data === undefined) {
    throw new Refused(answer.response.status, answer.error as Refusal | undefined);
  }
  return answer.data;
}

/** Send a form with files; openapi-fetch doesn't type those well. */
export async function upload<T>(path: string, form: FormData, signal?: AbortSignal): Promise<T> {
  const response = await fetch(path, { method: "POST", body: form, headers: { "X-CSRFToken": token() }, signal });
  const data: unknown = await response.json().catch(() => undefined);
  if (!response.ok) throw new Refused(response.status, data as Refusal | undefined);
  return data as T;
}
