import { Button, HStack } from "@chakra-ui/react";
import { useQuery } from "@tanstack/react-query";
import { useEffect, useId, useRef, useState, type FormEvent, type ReactNode } from "react";

import type { Operation, PreviewResult, RecordOf, Verdict } from "../api/client";
import { usePlan, usePresence } from "../api/plan";
import { freeAddress } from "../model/addresses";
import { segmentWith, type Book } from "../model/records";
import { isWorse } from "../model/verdicts";
import { Consequences } from "../parts/Consequences";
import { ChoiceLine, FlagLine, Keys, LinkButton, Quiet, TakeButton, Taking, TextLine, Told } from "../parts/controls";
import { VerdictMark } from "../parts/VerdictMark";
import { useDraft, type Clash } from "./draft";
import { outcome, type Proposal } from "./edits";
import { parsed, type Draft, type FieldSpec } from "./fields";

/** How many choices of a list are worked out together. */
const AT_ONCE = 24;

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
export function Outcome({ result, error }: { result: PreviewResult | undefined; error?: Error | null }) {
  if (error) return <Told tone="bad">{error.message}</Told>;
  if (!result) return <Told tone="quiet">Working out what would move…</Told>;
  if (result.problems.length)
    return (
      <Told tone="bad">
        {result.problems.map((p) => (p.field ? `${p.field.replaceAll("_", " ")}: ${p.message}` : p.message)).join("; ")}
      </Told>
    );
  const worse = result.moves.filter(isWorse);
  const better = !result.shut_down.length && result.moves.some((move) => move.after);
  return (
    <Told tone={worse.length ? "worse" : better ? "better" : undefined}>
      <Consequences of={result} />
    </Told>
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
        <Button
          size="2xs"
          variant="ghost"
          color="ink.muted"
          fontSize="16px"
          aria-label="Close"
          title="Close (Esc)"
          onClick={close}
        >
          ×
        </Button>
      </div>
      {children}
    </div>
  );
}

export interface Section {
  label: string;
  body: ReactNode;
}

/** What a panel offers, one section at a time; whoever chooses one goes on typing in it. */
export function Sections({ label, sections, first = 0 }: { label: string; sections: Section[]; first?: number }) {
  const [at, setAt] = useState(first);
  const [chosen, setChosen] = useState(0);
  const body = useRef<HTMLDivElement>(null);
  useEffect(() => {
    if (chosen) body.current?.querySelector<HTMLElement>("input, select, textarea, [role=listbox]")?.focus();
  }, [chosen]);
  const shown = sections[Math.min(at, sections.length - 1)]!;
  const choose = (n: number): void => {
    setAt(n);
    setChosen(chosen + 1);
  };
  return (
    <>
      {sections.length > 1 && (
        <HStack role="group" aria-label={label} wrap="wrap" gap="1" mb="2">
          {sections.map((section, n) => (
            <Button
              key={section.label}
              size="2xs"
              variant="outline"
              aria-pressed={shown === section}
              _pressed={{ borderColor: "copper.fg", color: "copper.fg", fontWeight: "600" }}
              onClick={() => choose(n)}
            >
              {section.label}
            </Button>
          ))}
        </HStack>
      )}
      <div key={shown.label} ref={body}>
        {shown.body}
      </div>
    </>
  );
}

/** A list of choices, each with what would become of an endpoint; arrows choose, Enter takes. */
export function OutcomeList({
  label,
  proposals,
  endpoint,
  take,
  empty,
}: {
  label: string;
  proposals: Proposal[];
  endpoint: string | null;
  take: (p: Proposal) => void;
  empty: string;
}) {
  const { snapshot } = usePlan();
  const [chosen, setChosen] = useState(0);
  const list = useRef<HTMLUListElement>(null);
  const id = useId();
  // Only the choices around the chosen one are worked out: a site may have hundreds of free ports.
  const page = Math.floor(Math.min(chosen, Math.max(0, proposals.length - 1)) / AT_ONCE) * AT_ONCE;
  const { results: some, error } = usePreviews(proposals.slice(page, page + AT_ONCE).map((p) => p.operations));
  const resultOf = (n: number): PreviewResult | undefined => some?.[n - page];
  const now: Verdict = (endpoint ? snapshot.endpoints.get(endpoint)?.verdict : undefined) ?? "home";
  useEffect(() => list.current?.focus({ preventScroll: true }), []);
  if (!proposals.length) return <Quiet>{empty}</Quiet>;
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
          const result = resultOf(n);
          const becomes = endpoint ? outcome(result, endpoint, now) : null;
          return (
            <li
              key={proposal.key}
              id={`${id}-${n}`}
              role="option"
              aria-selected={n === at}
              onMouseMove={() => setChosen(n)}
              onClick={() => take(proposal)}
            >
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
      <Outcome result={resultOf(at)} error={error} />
      <Keys>↑ ↓ choose, Enter takes, Esc leaves all as it is</Keys>
    </>
  );
}

/** Fields of a record, changed or made together; what would move is shown while typing. */
export function FieldForm({
  fields,
  record = {},
  making = false,
  compose,
  message,
  done,
  action = "Take it",
  beside = false,
}: FormProps) {
  const { at, book, edit, snapshot } = usePlan();
  const { busy } = usePresence();
  // What is made anew stands nowhere yet, so nobody else can have changed it.
  const [begun] = useState(record);
  const { draft, put, clashes, followed, settle } = useDraft(fields, making ? begun : record);
  const by = snapshot.authors.get(String(record.id)) ?? "Somebody";
  const [all, setAll] = useState(false);
  const first = useRef<HTMLElement | null>(null);
  useEffect(() => {
    if (beside) return;
    first.current?.focus({ preventScroll: true });
    if (first.current instanceof HTMLInputElement && first.current.type !== "checkbox") first.current.select();
  }, [beside]);
  const wrong: string[] = [];
  const set: Draft = {};
  for (const field of fields) {
    const active = field.when?.(draft) ?? true;
    const absent = field.unless !== undefined ? field.unless : field.kind === "text" ? "" : null;
    const value = active
      ? parsed(field, draft[field.name], wrong, record[field.name])
      : field.kind === "list"
        ? []
        : absent;
    const held = record[field.name] ?? absent;
    const before =
      field.kind === "choice" || field.kind === "ref"
        ? held || null
        : field.kind === "list"
          ? ((record[field.name] as string[] | undefined) ?? [])
          : held;
    if (JSON.stringify(value) !== JSON.stringify(before)) set[field.name] = value;
  }
  const changed = making || Object.keys(set).length > 0;
  const operations = changed && !wrong.length ? compose(set) : [];
  const { results, error } = usePreviews([operations], operations.length > 0);
  const blocked =
    at !== undefined || !operations.length || busy || clashes.length > 0 || !!results?.[0]?.problems.length;
  const keys = clashes.length ? "Say first which value is meant" : "Enter takes, Esc leaves all as it is";
  const submit = (event: FormEvent): void => {
    event.preventDefault();
    if (blocked) return;
    void edit(message(set), operations).then((made) => made && done());
  };
  const active = fields.filter((f) => f.when?.(draft) ?? true);
  const free = active.some((f) => f.name in ADDRESSES) ? offered(book, draft, record) : null;
  const hidden = active.filter((f) => f.more && !(f.name in record));
  return (
    <form
      onSubmit={submit}
      onKeyDown={(event) => {
        if (event.key !== "Enter" || !(event.target instanceof HTMLSelectElement)) return;
        event.preventDefault();
        event.currentTarget.requestSubmit();
      }}
    >
      {active
        .filter((f) => all || !hidden.includes(f))
        .map((field, n) => (
          <FormField
            key={field.name}
            field={field}
            value={draft[field.name]}
            put={(value) => put(field.name, value)}
            offer={ADDRESSES[field.name] === undefined ? null : ADDRESSES[field.name] ? free : bare(free)}
            hold={(node) => {
              if (n === 0) first.current = node;
            }}
          />
        ))}
      {hidden.length > 0 && (
        <LinkButton aria-expanded={all} onClick={() => setAll(!all)}>
          {all
            ? "Less"
            : `More: ${hidden
                .slice(0, 3)
                .map((f) => f.label.replace(/^… /, ""))
                .join(", ")}${hidden.length > 3 ? " …" : ""}`}
        </LinkButton>
      )}
      {clashes.map((clash) => (
        <Clashing key={clash.field.name} clash={clash} by={by} settle={(mine) => settle(clash, mine)} />
      ))}
      {followed.length > 0 && (
        <div role="status">
          <Told tone="quiet">
            {by} changed this while it was open: {followed.join(", ")}.
          </Told>
        </div>
      )}
      {wrong.length ? (
        <Told tone="bad">{wrong.join("; ")}</Told>
      ) : operations.length ? (
        <Outcome result={results?.[0]} error={error} />
      ) : (
        <Told tone="quiet">{making ? "Fill in what is asked." : "Nothing changed yet."}</Told>
      )}
      <Taking keys={at !== undefined ? `Revision ${at} as it was: nothing can be changed here` : keys}>
        <TakeButton type="submit" disabled={blocked}>
          {action}
        </TakeButton>
      </Taking>
    </form>
  );
}

/** A value as somebody would say it. */
function said(field: FieldSpec, value: unknown): string {
  if (typeof value === "boolean") return value ? "yes" : "no";
  const text = String(value ?? "");
  return field.options?.find(([key]) => key === text)?.[1] ?? (text || field.hint || "nothing");
}

/** Two people changed one field: both values, and which is meant. */
export function Clashing({
  clash: { field, mine, theirs },
  by,
  settle,
}: {
  clash: Clash;
  by: string;
  settle: (mine: boolean) => void;
}) {
  return (
    <div role="alert">
      <Told tone="bad">
        {field.label}: {by} saved <b className="mono">{said(field, theirs)}</b> meanwhile, and you have{" "}
        <b className="mono">{said(field, mine)}</b>.
        <HStack gap="2" mt="1">
          <Button size="2xs" variant="outline" borderColor="currentcolor" onClick={() => settle(true)}>
            Keep {said(field, mine)}
          </Button>
          <Button size="2xs" variant="outline" borderColor="currentcolor" onClick={() => settle(false)}>
            Take {said(field, theirs)}
          </Button>
        </HStack>
      </Told>
    </div>
  );
}

interface FormProps {
  fields: FieldSpec[];
  record?: Draft;
  /** Whether a record is made, so that there is something to take before anything was changed. */
  making?: boolean;
  compose: (set: Draft) => Operation[];
  message: (set: Draft) => string;
  done: () => void;
  action?: string;
  /** It stands beside another form, in which typing begins. */
  beside?: boolean;
}

/** The fields in which addresses are typed, and whether a prefix length stands behind them. */
const ADDRESSES: Readonly<Record<string, boolean>> = { addresses: true, gateways: false, lease_servers: false };
const bare = (address: string | null): string | null => address?.split("/")[0] ?? null;

/** The next free address where a record belongs, as its form says it: on its segment, or where its tag leads. */
function offered(book: Book, draft: Draft, record: Draft): string | null {
  const own = { ...record, ...draft };
  if (Array.isArray(record.subnets)) return freeAddress(book, record as unknown as RecordOf<"segment">);
  const vid = own.vid ?? book.get("port_group", own.port_group as string)?.vid;
  return freeAddress(book, book.get("segment", own.belongs as string) ?? segmentWith(book, Number(vid)));
}

function FormField({
  field,
  value,
  put,
  offer,
  hold,
}: {
  field: FieldSpec;
  value: unknown;
  put: (value: unknown) => void;
  /** An address that could stand there too. */
  offer: string | null;
  hold: (node: HTMLElement | null) => void;
}) {
  const options: [string, string][] =
    field.kind === "maybe" && !field.options
      ? [
          ["", "as its port group"],
          ["true", "allowed"],
          ["false", "denied"],
        ]
      : (field.options ?? []);
  const text = String(value ?? "");
  if (options.length > 0 || field.kind === "ref")
    return <ChoiceLine label={field.label} value={text} put={put} options={options} hold={hold} />;
  if (field.kind === "flag") return <FlagLine label={field.label} value={Boolean(value)} put={put} hold={hold} />;
  const numeric = field.kind === "vid" || field.kind === "number";
  const { label, hint } = field;
  const line = <TextLine label={label} value={text} put={put} hint={hint} numeric={numeric} hold={hold} />;
  if (!offer || text.includes(offer)) return line;
  return (
    <>
      {line}
      <LinkButton onClick={() => put(text.trim() ? `${text.trim()}, ${offer}` : offer)}>{offer} is free</LinkButton>
    </>
  );
}
