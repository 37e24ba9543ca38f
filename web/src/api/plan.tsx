import { replaceEqualDeep, useMutation, useQuery, useQueryClient, type UseQueryOptions } from "@tanstack/react-query";
import {
  createContext,
  useCallback,
  useContext,
  useEffect,
  useLayoutEffect,
  useMemo,
  useRef,
  useState,
  type ReactNode,
} from "react";

import { applyAnswers, applyOperations, makeBook, type Answers, type Book } from "../model/records";
import {
  api,
  lookAt,
  Refused,
  unwrap,
  type Committed,
  type Draft,
  type Endpoint,
  type Finding,
  type FindingDetail,
  type GestureResult,
  type Operation,
  type PreviewResult,
  type RevisionTold,
  type Snapshot,
  type Summary,
  type SummaryChange,
} from "./client";
import { useLive, type About } from "./live";
import { landAnew, loadEndpoints, loadPlan, type PlanData } from "./load";

/** The server takes no more edits than these in one request. */
const MOST_PREVIEWS = 64;

/** What happened last, told in the status line. */
export interface Told {
  text: string;
  bad: boolean;
  number: number;
}

/** What each gesture takes. */
export interface Gestures {
  renumber: { old: number; new: number };
  exchange: { one: string; two: string };
  "move-guests": { guests: string[]; host: string };
  everywhere: { segment: string; hosts: string[] };
  "at-port": { port: string; segment: string; name: string };
  bubble: { name: string; guests: string[]; segments: string[]; host: string; entry: string };
  burst: { name: string };
  routing: { switch: string; segments: string[] };
  "own-nics": { role: string; hosts: string[]; nics: string[]; mtu: number };
  queues: { hosts: string[] };
  shield: { host: string; name: string; outside: string; subnet: string; guests: string[]; nic: string };
  "clear-host": { host: string; failed: boolean };
  offer: { segment: string; hosts: string[] };
  prune: { cables: string[] };
  "split-off": { switch: string; role: string; nics: string[] };
  spread: { uplink: string };
  "make-pattern": { name: string; host: string; starter: string };
  stamp: { pattern: string; hosts: string[]; answers: { host: string; part: string; nic: string | null }[] };
  unstamp: { stamp: string };
  adopt: { stamp: string; about: string; field: string };
  keep: { stamp: string; about: string; field: string };
  "take-out": { part: string };
  "remove-pattern": { pattern: string };
  "mend-all": { findings: string[] };
  accept: { finding: string; why: string; until: string };
}

/** What can be done with a plan; the same functions for as long as it is open. */
export interface PlanActions {
  id: string;
  /** The address under which the views of it are. */
  base: string;
  /** The revision that is looked at, where that isn't the latest. */
  at: number | undefined;
  tell: (text: string, bad?: boolean) => void;
  /** Make an edit; resolves to null when it was refused (the reason is told). */
  edit: (message: string, operations: Operation[]) => Promise<Committed | null>;
  /** Show what a commit of this page came to, where it was made otherwise than by an edit or a gesture. */
  committed: (made: Committed) => void;
  /** Make a gesture's edit, which the server composes; resolves to null when it was refused (the reason is told). */
  gesture: <G extends keyof Gestures>(name: G, args: Gestures[G]) => Promise<Committed | null>;
  undo: () => void;
  redo: () => void;
  preview: (edits: Operation[][]) => Promise<PreviewResult[]>;
}

/** What a plan says of itself before its records have come. */
export interface PlanHead extends Pick<PlanData, "name" | "draft_of" | "revision" | "summary" | "steps"> {
  /** By how much each count moved with the last edit. */
  deltas: Record<string, number>;
}

/** A plan's records and verdicts, with all that can be done with it. */
export interface PlanState extends PlanActions {
  snapshot: PlanData;
  book: Book;
  /** An endpoint as sentences call it. */
  nameOf: (endpoint: string) => string;
}

/** What comes and goes beside the plan itself. */
export interface PlanPresence {
  people: string[];
  connected: boolean;
  told: Told | null;
  /** An edit is on its way. */
  busy: boolean;
}

// One context for each, so that who needs the one isn't rendered again with the other.
const Actions = createContext<PlanActions | null>(null);
const Head = createContext<PlanHead | null>(null);
const Records = createContext<PlanState | null>(null);
const Presence = createContext<PlanPresence | null>(null);
const Loaded = createContext<[number, number]>([0, 0]);

function inside<T>(value: T | null): T {
  if (value === null) throw new Error("this needs a plan around it");
  return value;
}

export const useActions = (): PlanActions => inside(useContext(Actions));
export const useHead = (): PlanHead => inside(useContext(Head));
export const usePresence = (): PlanPresence => inside(useContext(Presence));
/** The plan with its records, for what stands in `WithRecords`. */
export const usePlan = (): PlanState => inside(useContext(Records));

/** What can't be shown without the plan's records: it waits until all of them are here. */
export function WithRecords({ children, waiting }: { children: ReactNode; waiting: Waits }) {
  const here = useContext(Records) !== null;
  const [done, all] = useContext(Loaded);
  return here ? children : waiting(done, all);
}

type Waits = (done: number, all: number) => ReactNode;

/** What a server answer tells of later revisions; edits or landings that are too large to tell are null. */
interface Later {
  revision: number;
  edits: { number: number; author: string | null; edit: Operation[] }[] | null;
  /** Of a finding that stands as in the revision before its id alone, where that one was said to be known. */
  summary: SummaryChange;
  landed: Endpoint[] | null;
  steps: Snapshot["steps"];
}

/** What is told of a summary with what was known of it; null where that isn't enough. */
function wholeSummary(known: Summary, told: SummaryChange): Summary | null {
  const of = new Map([...known.findings, ...known.accepted].map((finding) => [finding.id, finding]));
  const [findings, accepted] = [told.findings, told.accepted].map((listed) =>
    listed.map((finding) => (typeof finding === "string" ? of.get(finding) : finding)),
  ) as [(Finding | undefined)[], (Finding | undefined)[]];
  const all = (listed: (Finding | undefined)[]): listed is Finding[] => !listed.includes(undefined);
  return all(findings) && all(accepted) ? { ...told, findings, accepted } : null;
}

/**
 * A plan after an edit: of the summary, what is as it was is the same object. Records and endpoints see to that by
 * themselves, and would only be copied.
 */
function sharing(before: unknown, now: unknown): PlanData {
  const plan = now as PlanData;
  return { ...plan, summary: replaceEqualDeep((before as PlanData | undefined)?.summary, plan.summary) };
}

function difference(before: Record<string, number>, after: Record<string, number>): Record<string, number> {
  return Object.fromEntries(Object.keys(after).map((k) => [k, (after[k] ?? 0) - (before[k] ?? 0)]));
}

export function PlanProvider({
  id,
  at,
  user,
  children,
  waiting,
  failed,
}: {
  id: string;
  /** An earlier revision, to be looked at. */
  at?: number;
  user: string;
  children: ReactNode;
  waiting: ReactNode;
  failed: (why: string) => ReactNode;
}) {
  const queries = useQueryClient();
  const past = at !== undefined;
  const key = useMemo(() => ["plan", id, at], [id, at]);
  // Before anything is asked.
  useLayoutEffect(() => {
    lookAt(at === undefined ? null : { plan: id, revision: at });
    return () => lookAt(null);
  }, [id, at]);
  const [loaded, setLoaded] = useState<[number, number]>([0, 0]);
  const [early, setEarly] = useState<Snapshot | null>(null);
  const query = useQuery({
    queryKey: key,
    queryFn: ({ signal }) => loadPlan(id, signal, setEarly, (done, all) => setLoaded([done, all])),
    structuralSharing: sharing,
  });
  const [people, setPeople] = useState<string[]>([]);
  const [deltas, setDeltas] = useState<Record<string, number>>({});
  const [about, setAbout] = useState<About | null>(null);
  const [told, setTold] = useState<Told | null>(null);
  const tell = useCallback(
    (text: string, bad = false) => setTold((last) => ({ text, bad, number: (last?.number ?? 0) + 1 })),
    [],
  );

  /** Take over what the server says came after our revision; edits that we already have are passed over. */
  const catchUp = useCallback(
    ({ revision, edits, summary, landed, steps }: Later) => {
      const known = queries.getQueryData<PlanData>(key);
      if (!known || known.revision >= revision) return;
      const fresh = (edits ?? []).filter((e) => e.number > known.revision).sort((a, b) => a.number - b.number);
      const whole = fresh[0]?.number === known.revision + 1 && fresh.length === revision - known.revision;
      const summed = whole ? wholeSummary(known.summary, summary) : null;
      if (!summed) {
        void queries.invalidateQueries({ queryKey: key });
        return;
      }
      const records = fresh.reduce((r, e) => applyOperations(r, e.edit), known.records);
      const gone = new Set<string>();
      for (const operation of fresh.flatMap((e) => e.edit))
        if (operation.op === "drop") gone.add(operation.id!);
        else if (operation.op === "put") gone.delete((operation.record as { id: string }).id);
      const now = landAnew(known, gone, landed ?? []);
      const authors = new Map(known.authors);
      for (const { author, edit } of fresh)
        for (const operation of edit) authors.set(String(operation.id ?? operation.record?.id), author ?? "Somebody");
      setDeltas(difference(known.summary.counts, summed.counts));
      queries.setQueryData<PlanData>(key, { ...known, ...now, revision, records, summary: summed, steps, authors });
      if (landed !== null) return;
      void loadEndpoints(id, revision).then((all) => {
        if (all) queries.setQueryData<PlanData>(key, (now) => (now?.revision === revision ? { ...now, ...all } : now));
      });
    },
    [id, key, queries],
  );

  const [answers, unanswered, adjust] = useAnswers(id, at, (query.data ?? early)?.revision);

  /** Take over what others did, and say so. */
  const hear = useCallback(
    (news: Later & { last: { number: number; author: string | null; message: string; how: string } | null }) => {
      const { last } = news;
      const fresh = last && last.number > (queries.getQueryData<PlanData>(key)?.revision ?? 0);
      catchUp(news);
      if (fresh && last.how === "base") tell(last.message);
      else if (fresh && last.author !== user) tell(`${last.author ?? "Somebody"}: ${last.message}`);
    },
    [catchUp, key, queries, tell, user],
  );
  const ask = useCallback(
    (since: number) =>
      void api
        .GET("/api/plans/{plan_id}/changes", { params: { path: { plan_id: id }, query: { since } } })
        .then(({ data }) => data && hear(data)),
    [id, hear],
  );
  // What was told of while the records were on their way is caught up with once they are here.
  const latest = useRef(0);
  const here = query.data?.revision;
  useEffect(() => {
    if (!past && here !== undefined && here < latest.current) ask(here);
  }, [past, here, ask]);
  const connected = useLive(past ? null : id, {
    people: setPeople,
    about: (about) => {
      setAbout(about);
      if (about.name !== (queries.getQueryData<PlanData>(key) ?? early)?.name)
        tell(`This plan is called ${about.name} now.`);
    },
    drafts: () => {
      for (const about of ["drafts", "beside", "rebase"]) void queries.invalidateQueries({ queryKey: [about] });
    },
    revision: (event) => {
      latest.current = Math.max(latest.current, event.revision);
      const known = queries.getQueryData<PlanData>(key);
      if (!known || event.revision <= known.revision) {
        if ("since" in event) adjust(event);
        return;
      }
      if ("since" in event && event.since <= known.revision) {
        adjust(event);
        hear({ ...event, steps: event.steps[user] ?? known.steps });
        return;
      }
      ask(known.revision);
    },
  });

  const committed = useCallback(
    (made: Committed) => {
      catchUp({ ...made, edits: made.edit && [{ number: made.revision, author: user, edit: made.edit }] });
      tell(made.message);
    },
    [catchUp, tell, user],
  );
  const refused = useCallback(
    (error: Error) => {
      tell(error.message, true);
      if (error instanceof Refused && error.status === 409) void queries.invalidateQueries({ queryKey: key });
    },
    [key, queries, tell],
  );
  const path = useMemo(() => ({ params: { path: { plan_id: id } } }), [id]);
  /** The revision that we know, and our path with it: what stands as it did there needn't be told again. */
  const knowing = useCallback(() => {
    const base = queries.getQueryData<PlanData>(key)?.revision ?? 0;
    return { base, to: { params: { path: { plan_id: id }, query: { known: base } } } };
  }, [id, key, queries]);
  const making = useMutation({
    mutationFn: async ({ message, operations }: { message: string; operations: Operation[] }) => {
      const { base, to } = knowing();
      return unwrap(await api.POST("/api/plans/{plan_id}/edits", { ...to, body: { base, message, edit: operations } }));
    },
    onSuccess: committed,
    onError: refused,
  });
  const stepping = useMutation({
    mutationFn: async (way: "undo" | "redo") => unwrap(await api.POST(`/api/plans/{plan_id}/${way}`, knowing().to)),
    onSuccess: committed,
    onError: refused,
  });
  const gesturing = useMutation({
    mutationFn: async ({ name, args }: { name: keyof Gestures; args: Record<string, unknown> }) => {
      const { base, to } = knowing();
      return unwrap(
        await api.POST("/api/plans/{plan_id}/gestures", { ...to, body: { gesture: name, args, base, take: true } }),
      );
    },
    onSuccess: ({ committed: made }) => made && committed(made),
    onError: refused,
  });
  const { mutateAsync: make } = making;
  const edit = useCallback(
    async (message: string, operations: Operation[]) => {
      if (!past) return make({ message, operations }).catch(() => null);
      tell(`This is revision ${at} as it was: nothing can be changed here.`, true);
      return null;
    },
    [make, past, at, tell],
  );
  const { mutateAsync: doGesture } = gesturing;
  const gesture = useCallback(
    async <G extends keyof Gestures>(name: G, args: Gestures[G]) => {
      if (!past)
        return doGesture({ name, args: { ...args } }).then(
          (made) => made.committed,
          () => null,
        );
      tell(`This is revision ${at} as it was: nothing can be changed here.`, true);
      return null;
    },
    [doGesture, past, at, tell],
  );
  const { mutate: step } = stepping;
  const undo = useCallback(() => !past && step("undo"), [step, past]);
  const redo = useCallback(() => !past && step("redo"), [step, past]);
  const preview = useCallback(
    async (edits: Operation[][]) => {
      const made: PreviewResult[] = [];
      for (let n = 0; n < edits.length; n += MOST_PREVIEWS) {
        made.push(
          ...unwrap(
            await api.POST("/api/plans/{plan_id}/preview", {
              ...path,
              body: { edits: edits.slice(n, n + MOST_PREVIEWS) },
            }),
          ),
        );
      }
      return made;
    },
    [path],
  );

  const records = query.data?.records;
  const book = useMemo(() => (records && answers ? { ...makeBook(records), ...answers } : null), [records, answers]);
  const endpoints = query.data?.endpoints;
  const nameOf = useCallback((id: string) => endpoints?.get(id)?.name ?? id, [endpoints]);
  const busy = making.isPending || stepping.isPending || gesturing.isPending;
  const base = past ? `/plans/${id}/at/${at}` : `/plans/${id}`;
  const actions = useMemo(
    () => ({ id, base, at, tell, edit, committed, gesture, undo, redo, preview }),
    [id, base, at, tell, edit, committed, gesture, undo, redo, preview],
  );
  const said: Omit<PlanHead, "deltas"> | null = query.data ?? early;
  const head = useMemo(
    () =>
      said && {
        ...pickHead(said),
        ...(past ? { steps: { undo: null, redo: null } } : {}),
        name: about?.name ?? said.name,
        deltas,
      },
    [said, past, about, deltas],
  );
  const state = useMemo(
    () => (query.data && book ? { ...actions, snapshot: query.data, book, nameOf } : null),
    [actions, query.data, book, nameOf],
  );
  const presence = useMemo(() => ({ people, connected, told, busy }), [people, connected, told, busy]);
  const error = query.error ?? unanswered;
  if (error) return failed(error.message);
  if (about?.binned_by)
    return failed(
      `${about.binned_by} put this ${head?.draft_of ? "draft" : "plan"} into the bin. It can be taken out under Plans.`,
    );
  if (!head) return waiting;
  return (
    <Actions.Provider value={actions}>
      <Presence.Provider value={presence}>
        <Head.Provider value={head}>
          <Loaded.Provider value={loaded}>
            <Records.Provider value={state}>{children}</Records.Provider>
          </Loaded.Provider>
        </Head.Provider>
      </Presence.Provider>
    </Actions.Provider>
  );
}

const pickHead = ({
  name,
  draft_of,
  revision,
  summary,
  steps,
}: Omit<PlanHead, "deltas">): Omit<PlanHead, "deltas"> => ({
  name,
  draft_of,
  revision,
  summary,
  steps,
});

interface AnswersAt extends Answers {
  /** The revision of which they speak, or a later one. */
  at: number;
}

/** For so long the server's own word of what an edit changed is waited for, before it is asked. */
const PATIENCE = 700;

/**
 * What the engine says beside verdicts: who carries, how far switches reach, what guests could do; the error where it
 * doesn't say it; and how to take over what an edit changed of it, whose parts stay the same object as long as they
 * are the same.
 */
function useAnswers(
  id: string,
  past: number | undefined,
  revision: number | undefined,
): [Answers | null, Error | null, (event: RevisionTold) => void] {
  const queries = useQueryClient();
  const key = useMemo(() => ["answers", id, past], [id, past]);
  const query = useQuery<AnswersAt>({
    queryKey: key,
    enabled: revision !== undefined,
    queryFn: async () => {
      const path = { params: { path: { plan_id: id } } };
      const [teams, could] = await Promise.all([
        api.GET("/api/plans/{plan_id}/teams", path),
        api.GET("/api/plans/{plan_id}/could", path),
      ]);
      return { at: revision!, teams: unwrap(teams), could: unwrap(could) };
    },
  });
  const { data } = query;
  useEffect(() => {
    if (data === undefined || revision === undefined || data.at >= revision) return;
    const timer = setTimeout(() => void queries.invalidateQueries({ queryKey: key }), PATIENCE);
    return () => clearTimeout(timer);
  }, [queries, key, data, revision]);
  const adjust = useCallback(
    ({ since, revision: to, answers }: RevisionTold) =>
      queries.setQueryData<AnswersAt>(key, (known) =>
        known && answers && since <= known.at && known.at < to ? { ...applyAnswers(known, answers), at: to } : known,
      ),
    [queries, key],
  );
  const teams = data?.teams;
  const could = data?.could;
  const answers = useMemo(() => (teams && could ? { teams, could } : null), [teams, could]);
  return [answers, answers ? null : query.error, adjust];
}

/** What a gesture would change, or what it asks first; asked for again as soon as its arguments or the plan differ. */
export function useGesture<G extends keyof Gestures>(name: G, args: Gestures[G], enabled = true) {
  const { id } = useActions();
  const { revision } = useHead();
  const ask = (key: string, enabled: boolean, later: boolean): UseQueryOptions<GestureResult> => ({
    queryKey: [key, id, revision, name, args],
    enabled,
    retry: false,
    queryFn: ({ signal }) => tryGesture(id, revision, name, args, signal, later),
  });
  const moved = useQuery(ask("gesture", enabled, true));
  // Of a very large edit it is told who moves before its risks have been looked for.
  const whole = useQuery(ask("gesture-risks", enabled && moved.data?.preview?.risks === null, false));
  return { data: whole.data ?? moved.data, error: moved.error ?? whole.error };
}

/** What a gesture would change, asked once. */
export async function tryGesture<G extends keyof Gestures>(
  id: string,
  revision: number,
  name: G,
  args: Gestures[G],
  signal?: AbortSignal,
  later = false,
): Promise<GestureResult> {
  return unwrap(
    await api.POST("/api/plans/{plan_id}/gestures", {
      params: { path: { plan_id: id }, query: later ? { risks: "later" } : {} },
      body: { gesture: name, args: { ...args }, base: revision, take: false },
      signal,
    }),
  );
}

/** The drafts of a plan (or, of a draft, those of its plan), the latest changed first. */
export function useDrafts() {
  const { id } = useActions();
  const { draft_of: of } = useHead();
  return useQuery<Draft[]>({
    queryKey: ["drafts", of ?? id],
    // Of the plan itself: a draft that was dropped can't be asked any more.
    queryFn: async () =>
      unwrap(await api.GET("/api/plans/{plan_id}/drafts", { params: { path: { plan_id: of ?? id } } })),
  });
}

/** The draft that is worked on; undefined for a plan, and before it is known. */
export function useDraft(): Draft | undefined {
  const { id } = useActions();
  return useDrafts().data?.find((draft) => draft.id === id);
}

/** A finding's proof and mends at the plan's present revision. */
export function useFinding(finding: string | null) {
  const { id } = useActions();
  const { revision } = useHead();
  return useQuery<FindingDetail>({
    queryKey: ["finding", id, revision, finding],
    enabled: finding !== null,
    queryFn: async () =>
      unwrap(
        await api.GET("/api/plans/{plan_id}/findings/{finding_id}", {
          params: { path: { plan_id: id, finding_id: finding! } },
        }),
      ),
  });
}
