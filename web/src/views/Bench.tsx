import "./tables.css";
import "./bench.css";
import { LinkButton, TakeButton } from "../parts/controls";

import { useMutation, useQuery, useQueryClient } from "@tanstack/react-query";
import { useState, type FormEvent } from "react";
import { useSearchParams } from "react-router";

import { api, unwrap, type BenchDetail, type BenchItem, type BenchReport } from "../api/client";
import { useActions, useHead } from "../api/plan";

const STEPS: Record<string, string> = {
  starting: "starting the kernel",
  questions: "writing the questions of situation",
  building: "building",
  reading: "reading the state of device",
  settling: "waiting for links to settle",
  asking: "asking: frame",
  situation: "asked in situation",
};
const live = (run: BenchItem | undefined): boolean => run?.state === "waiting" || run?.state === "running";

/** How a run came out, in a few words and a sign. */
function outcome(run: BenchItem): { sign: string; kind: string; text: string } {
  if (run.state === "waiting") return { sign: "◌", kind: "waits", text: "waiting for a worker" };
  if (run.state === "running")
    return {
      sign: "◔",
      kind: "waits",
      text: run.step
        ? `${STEPS[run.step] ?? run.step} ${run.of > 1 ? `${run.done} of ${run.of}` : ""}`
        : "working out the questions",
    };
  if (run.state === "cancelled") return { sign: "–", kind: "quiet", text: "cancelled" };
  if (run.state === "failed") return { sign: "!", kind: "bad", text: "could not be asked" };
  const left = run.not_tried ? `, ${run.not_tried} not tried` : "";
  const tried = `proved on ${run.agreed} of ${run.questions} questions${left}`;
  return run.differed
    ? { sign: "≠", kind: "bad", text: `${tried}, ${run.differed} differed` }
    : { sign: "✓", kind: "good", text: tried };
}

const when = (at: string | null): string =>
  at
    ? new Date(at).toLocaleString("en-GB", { day: "numeric", month: "short", hour: "2-digit", minute: "2-digit" })
    : "";
const lasted = (run: BenchItem): string =>
  run.started && run.ended
    ? `${Math.max(1, Math.round((Date.parse(run.ended) - Date.parse(run.started)) / 1000))} s`
    : "";

/** The plan put to a real kernel: ask, follow, and see where engine and kernel differ. */
export function Bench() {
  const { id } = useActions();
  const { revision } = useHead();
  const queries = useQueryClient();
  const [params, setParams] = useSearchParams();
  const [pulls, setPulls] = useState("4");
  const [sample, setSample] = useState("40");
  const runs = useQuery({
    queryKey: ["bench", id],
    queryFn: async () => unwrap(await api.GET("/api/plans/{plan_id}/bench", { params: { path: { plan_id: id } } })),
    refetchInterval: (query) => (live(query.state.data?.runs[0]) ? 1000 : 15_000),
  });
  const latest = runs.data?.runs[0];
  const wanted = Number(params.get("run")) || latest?.number;
  const chosen = runs.data?.runs.find((r) => r.number === wanted);
  const detail = useQuery({
    queryKey: ["bench", id, wanted, chosen?.state],
    enabled: chosen !== undefined,
    queryFn: async () =>
      unwrap(
        await api.GET("/api/plans/{plan_id}/bench/{number}", { params: { path: { plan_id: id, number: wanted! } } }),
      ),
    refetchInterval: live(chosen) ? 1000 : false,
    placeholderData: (before) => before,
  });
  const again = (): Promise<void> => queries.invalidateQueries({ queryKey: ["bench", id] });
  const show = (number: number): void =>
    setParams(number === latest?.number ? {} : { run: String(number) }, { replace: true });
  const start = useMutation({
    mutationFn: async () =>
      unwrap(
        await api.POST("/api/plans/{plan_id}/bench", {
          params: { path: { plan_id: id } },
          body: { pulls: Number(pulls), sample: Number(sample), seed: revision },
        }),
      ),
    onSuccess: async () => {
      setParams({}, { replace: true });
      await again();
    },
  });
  const cancel = useMutation({
    mutationFn: async (number: number) =>
      unwrap(
        await api.POST("/api/plans/{plan_id}/bench/{number}/cancel", { params: { path: { plan_id: id, number } } }),
      ),
    onSettled: again,
  });
  const wrong = [pulls, sample].some((n) => !/^\d+$/.test(n)) ? "Both numbers have to be whole." : "";
  const submit = (event: FormEvent): void => {
    event.preventDefault();
    if (!wrong && !live(latest)) start.mutate();
  };
  return (
    <div className="bench">
      <section className="bench-side" aria-label="Runs">
        <form onSubmit={submit}>
          <h2>Prove revision {revision}</h2>
          <p>
            The plan is built in a Linux kernel of its own, real frames are sent, and each answer is held against the
            engine’s.
          </p>
          <label>
            <span>Cables pulled in turn</span>
            <input className="mono" inputMode="numeric" value={pulls} onChange={(e) => setPulls(e.target.value)} />
          </label>
          <label>
            <span>Senders beside one of each kind</span>
            <input className="mono" inputMode="numeric" value={sample} onChange={(e) => setSample(e.target.value)} />
          </label>
          {(wrong || start.error) && (
            <p role="alert" className="bench-error">
              {wrong || start.error?.message}
            </p>
          )}
          {runs.data?.workers === 0 && (
            <p role="status" className="bench-error">
              No worker is running: a run waits until one is started.
            </p>
          )}
          <div className="bench-actions">
            <TakeButton type="submit" disabled={Boolean(wrong) || live(latest) || start.isPending}>
              Start
            </TakeButton>
            {live(latest) && (
              <LinkButton disabled={cancel.isPending} onClick={() => cancel.mutate(latest!.number)}>
                Cancel the run
              </LinkButton>
            )}
          </div>
        </form>
        <ul className="bench-runs" aria-label="History">
          {runs.data?.runs.map((run) => {
            const { sign, kind, text } = outcome(run);
            return (
              <li key={run.number}>
                <button type="button" aria-current={run.number === wanted} onClick={() => show(run.number)}>
                  <span className={`bench-sign ${kind}`} aria-hidden>
                    {sign}
                  </span>
                  <span>
                    <b>Revision {run.revision}</b> {text}
                    <small>{[when(run.asked), run.author, lasted(run)].filter(Boolean).join(" · ")}</small>
                  </span>
                </button>
              </li>
            );
          })}
        </ul>
      </section>
      <section className="bench-main" aria-label="What came of it" aria-live="polite">
        {runs.error && <p role="alert">{runs.error.message}</p>}
        {runs.data?.runs.length === 0 && (
          <div className="empty-state">
            <h2>No revision was proved yet</h2>
            <p>
              A prediction that nobody checks is an opinion. Start a run: it takes half a minute on a small plan, a
              minute or two on fifty hosts, and touches no network but its own.
            </p>
          </div>
        )}
        {chosen && (
          <Detail
            plan={id}
            run={chosen}
            detail={detail.data?.run.number === chosen.number ? detail.data : undefined}
            now={revision}
          />
        )}
      </section>
    </div>
  );
}

function Detail({
  plan,
  run,
  detail,
  now,
}: {
  plan: string;
  run: BenchItem;
  detail: BenchDetail | undefined;
  now: number;
}) {
  const { text, kind } = outcome(run);
  return (
    <>
      <h2>
        Revision {run.revision} <span className={`bench-word ${kind}`}>{text}</span>
      </h2>
      {run.revision !== now && (
        <p className="bench-old">
          The plan is at revision {now} now; this run speaks of revision {run.revision}.
        </p>
      )}
      {run.state === "running" && <progress aria-label="Progress" max={Math.max(1, run.of)} value={run.done} />}
      {run.state === "waiting" && (
        <p>No worker has taken it yet. The demo starts one; another machine takes runs after ./run worker.</p>
      )}
      {run.error && (
        <p role="alert" className="bench-error">
          {run.error}
        </p>
      )}
      {detail?.report && <Report plan={plan} number={run.number} report={detail.report} />}
      {detail?.log && (
        <details open={live(run)}>
          <summary>Log{run.worker ? ` of ${run.worker}` : ""}</summary>
          <pre>{detail.log}</pre>
        </details>
      )}
    </>
  );
}

function Report({ plan, number, report }: { plan: string; number: number; report: BenchReport }) {
  const told = new Set(report.stories.map((s) => s.text));
  const rest = report.differences.filter((d) => !told.has(d.text));
  return (
    <>
      <dl className="bench-counts">
        {(
          [
            ["asked", report.asked],
            ["agreed", report.agreed],
            ["differed", report.differed],
            ["not tried", report.not_tried],
          ] as const
        ).map(([word, n]) => (
          <div key={word} className={word === "differed" && n ? "bad" : ""}>
            <dt>{word}</dt>
            <dd className="mono">{n}</dd>
          </div>
        ))}
        <div>
          <dt>seconds</dt>
          <dd className="mono">{Math.round(report.seconds.together ?? 0)}</dd>
        </div>
      </dl>
      {report.stories.map((story, n) => {
        const difference = report.differences.find((d) => d.text === story.text);
        return (
          <article key={n} className="bench-story">
            <h3>{story.text}</h3>
            {difference && <Sides engine={difference.only_engine} kernel={difference.only_kernel} />}
            <div className="bench-tales">
              {(
                [
                  ["The engine takes it", story.engine],
                  ["The kernel was seen to take it", story.kernel],
                ] as const
              ).map(([title, lines]) => (
                <div key={title}>
                  <h4>{title}</h4>
                  <ol>
                    {lines.map((line, at) => (
                      <li key={at}>{line}</li>
                    ))}
                  </ol>
                </div>
              ))}
            </div>
            <a className="plain-link" href={`/api/plans/${plan}/bench/${number}/difference/${n + 1}`}>
              The smallest plan that still differs ({story.smallest} records), and the frames at each port as pcap
            </a>
          </article>
        );
      })}
      {rest.length > 0 && (
        <details>
          <summary>
            {rest.length} more {rest.length === 1 ? "difference" : "differences"}
          </summary>
          {rest.map((d) => (
            <div key={d.number} className="bench-rest">
              {d.text}
              <Sides engine={d.only_engine} kernel={d.only_kernel} />
            </div>
          ))}
        </details>
      )}
      <h3>Asked in</h3>
      <ul className="bench-list">
        {report.situations.map((s) => (
          <li key={s}>{s === "as it is" ? "the plan as it is" : s}</li>
        ))}
      </ul>
      {report.not_built.length > 0 && (
        <>
          <h3>Not built, and what depends on it not tried</h3>
          <ul className="bench-list">
            {[...new Set(report.not_built.map((n) => n.reason))].map((reason) => (
              <li key={reason}>{reason}</li>
            ))}
          </ul>
        </>
      )}
    </>
  );
}

function Sides({ engine, kernel }: { engine: string[]; kernel: string[] }) {
  return (
    <p className="bench-sides">
      {engine.length > 0 && <span>Only the engine says it is heard by {engine.join(", ")}. </span>}
      {kernel.length > 0 && <span>Only in the kernel it is heard by {kernel.join(", ")}.</span>}
    </p>
  );
}
