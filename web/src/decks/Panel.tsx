import { useQuery } from "@tanstack/react-query";
import { useEffect, useId, useRef, useState, type FormEvent, type ReactNode } from "react";

import type { Operation, PreviewResult, Verdict } from "../api/client";
import { usePlan } from "../api/plan";
import { readVid } from "../model/records";
import { isWorse, sayMoves } from "../model/verdicts";
import { VerdictMark } from "../parts/VerdictMark";
import { outcome, type Proposal } from "./edits";

/** The previews of some edits at the present revision, asked for a moment after the last change. */
export function usePreviews(edits: Operation[][], enabled = true) {
  const { id, snapshot, preview } = usePlan();
  const text = JSON.stringify(edits);
  const [settled, setSettled] = useState(text);
  useEffect(() => {
    const timer = setTimeout(() => setSettled(text), 120);
    return () => clearTimeout(timer);
  }, [text]);
  const query = useQuery({
    queryKey: ["preview", id, snapshot.revision, settled],
    enabled: enabled && settled !== "[]",
    queryFn: () => preview(JSON.parse(settled) as Operation[][]),
    gcTime: 10_000,
  });
  return { results: settled === text ? query.data : undefined, error: query.error };
}

/** What an edit would do, in a line. */
export function Outcome({ result }: { result: PreviewResult | undefined }) {
  const { nameOf } = usePlan();
  if (!result) return <p className="outcome quiet">Working out what would move…</p>;
  if (result.problems.length) return <p className="outcome bad">{result.problems.map((p) => p.message).join("; ")}</p>;
  const worse = result.moves.filter(isWorse);
  return (
    <p className={worse.length ? "outcome worse" : result.moves.length ? "outcome better" : "outcome"}>
      {sayMoves(result.tally)}
      {worse.length > 0 && <span className="outcome-who">worse off: {worse.slice(0, 4).map((m) => nameOf(m.endpoint)).join(", ")}{worse.length > 4 ? ` and ${worse.length - 4} more` : ""}</span>}
    </p>
  );
}

export function Panel({ title, close, children }: { title: string; close: () => void; children: ReactNode }) {
  const id = useId();
  return (
    <div
      className="panel"
      role="dialog"
      aria-labelledby={id}
      onKeyDown={(e) => {
        if (e.key === "Escape") {
          e.stopPropagation();
          close();
        }
      }}
      onPointerDown={(e) => e.stopPropagation()}
    >
      <div className="panel-head">
        <h2 id={id}>{title}</h2>
        <button type="button" className="panel-close" aria-label="Close" title="Close (Esc)" onClick={close}>
          ×
        </button>
      </div>
      {children}
    </div>
  );
}

/** A list of choices, each with what would become of an endpoint; arrows choose, Enter takes. */
export function OutcomeList({ label, proposals, endpoint, take, empty }: { label: string; proposals: Proposal[]; endpoint: string | null; take: (p: Proposal) => void; empty: string }) {
  const { snapshot } = usePlan();
  const [chosen, setChosen] = useState(0);
  const list = useRef<HTMLUListElement>(null);
  const id = useId();
  const { results, error } = usePreviews(proposals.map((p) => p.operations));
  const now: Verdict = (endpoint ? snapshot.endpoints.get(endpoint)?.verdict : undefined) ?? "home";
  useEffect(() => list.current?.focus({ preventScroll: true }), []);
  if (!proposals.length) return <p className="quiet">{empty}</p>;
  const at = Math.min(chosen, proposals.length - 1);
  return (
    <>
      <ul
        ref={list}
        className="choices"
        role="listbox"
        tabIndex={0}
        aria-label={label}
        aria-activedescendant={`${id}-${at}`}
        onKeyDown={(e) => {
          if (e.key === "ArrowDown" || e.key === "ArrowUp") {
            e.preventDefault();
            const next = (at + (e.key === "ArrowDown" ? 1 : -1) + proposals.length) % proposals.length;
            setChosen(next);
            list.current?.children[next]?.scrollIntoView({ block: "nearest" });
          } else if (e.key === "Enter") {
            e.preventDefault();
            take(proposals[at]!);
          }
        }}
      >
        {proposals.map((proposal, n) => {
          const result = results?.[n];
          const becomes = endpoint ? outcome(result, endpoint, now) : null;
          return (
            <li key={proposal.key} id={`${id}-${n}`} role="option" aria-selected={n === at} onMouseMove={() => setChosen(n)} onClick={() => take(proposal)}>
              <span className="choice-name">{proposal.label}</span>
              <span className="choice-detail mono">{proposal.detail}</span>
              {endpoint && (
                <span className="choice-becomes">
                  {becomes ? (
                    <>
                      <VerdictMark mark={becomes} /> {becomes}
                    </>
                  ) : result ? (
                    "not possible"
                  ) : (
                    "…"
                  )}
                </span>
              )}
            </li>
          );
        })}
      </ul>
      {error ? <p className="outcome bad">{error.message}</p> : <Outcome result={results?.[at]} />}
      <p className="panel-keys">↑ ↓ choose, Enter takes, Esc leaves all as it is</p>
    </>
  );
}

export interface FieldSpec {
  name: string;
  label: string;
  kind: "vid" | "vids" | "choice" | "flag" | "text";
  value: unknown;
  options?: [string, string][];
  hint?: string;
  /** Whether the field makes sense, given the others. */
  when?: (draft: Record<string, unknown>) => boolean;
}

/** Fields of one record, changed together; what would move is shown while typing. */
export function FieldForm({ kind, id, fields, message, done }: { kind: Operation["kind"]; id: string; fields: FieldSpec[]; message: (changes: Record<string, unknown>) => string; done: () => void }) {
  const { edit, busy } = usePlan();
  const [draft, setDraft] = useState<Record<string, unknown>>(() => Object.fromEntries(fields.map((f) => [f.name, shown(f)])));
  const first = useRef<HTMLElement | null>(null);
  useEffect(() => {
    first.current?.focus({ preventScroll: true });
    if (first.current instanceof HTMLInputElement && first.current.type !== "checkbox") first.current.select();
  }, []);
  const wrong: string[] = [];
  const set: Record<string, unknown> = {};
  for (const field of fields) {
    const active = field.when?.(draft) ?? true;
    const value = active ? parsed(field, draft[field.name], wrong) : null;
    if (JSON.stringify(value) !== JSON.stringify(field.value ?? (field.kind === "flag" ? false : null))) set[field.name] = value;
  }
  const changed = Object.keys(set).length > 0;
  const operations: Operation[] = [{ op: "patch", kind, id, set }];
  const { results } = usePreviews([operations], changed && !wrong.length);
  const submit = (event: FormEvent): void => {
    event.preventDefault();
    if (!changed || wrong.length || results?.[0]?.problems.length) return;
    void edit(message(set), operations).then((made) => made && done());
  };
  return (
    <form className="fields" onSubmit={submit}>
      {fields
        .filter((f) => f.when?.(draft) ?? true)
        .map((field, n) => {
          const ref = (node: HTMLElement | null): void => {
            if (n === 0) first.current = node;
          };
          const put = (value: unknown): void => setDraft((now) => ({ ...now, [field.name]: value }));
          return (
            <label key={field.name} className={field.kind === "flag" ? "field flag" : "field"}>
              <span>{field.label}</span>
              {field.kind === "choice" ? (
                <select ref={ref} value={String(draft[field.name] ?? "")} onChange={(e) => put(e.target.value)}>
                  {field.options?.map(([value, text]) => (
                    <option key={value} value={value}>
                      {text}
                    </option>
                  ))}
                </select>
              ) : field.kind === "flag" ? (
                <input ref={ref} type="checkbox" checked={Boolean(draft[field.name])} onChange={(e) => put(e.target.checked)} />
              ) : (
                <input ref={ref} className="mono" value={String(draft[field.name] ?? "")} placeholder={field.hint} inputMode={field.kind === "vid" ? "numeric" : undefined} onChange={(e) => put(e.target.value)} />
              )}
            </label>
          );
        })}
      {wrong.length ? <p className="outcome bad">{wrong.join("; ")}</p> : changed ? <Outcome result={results?.[0]} /> : <p className="outcome quiet">Nothing changed yet.</p>}
      <div className="panel-actions">
        <button type="submit" className="solid" disabled={!changed || wrong.length > 0 || busy || !!results?.[0]?.problems.length}>
          Take it
        </button>
        <span className="panel-keys">Enter takes, Esc leaves all as it is</span>
      </div>
    </form>
  );
}

function shown(field: FieldSpec): unknown {
  return field.kind === "flag" ? Boolean(field.value) : (field.value ?? "");
}

function parsed(field: FieldSpec, value: unknown, wrong: string[]): unknown {
  if (field.kind === "flag") return Boolean(value);
  const text = String(value ?? "").trim();
  if (field.kind === "vid") {
    if (!text) return null;
    const vid = readVid(text);
    if (vid === null) wrong.push(`${field.label}: a VID is a number from 1 to 4094`);
    return vid;
  }
  if (field.kind === "vids" || field.kind === "choice") return text || (field.kind === "vids" && field.value === "" ? "" : null);
  return text;
}
