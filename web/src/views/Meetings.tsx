import "../decks/Decks.css";

import { Button, Heading, HStack, List, SegmentGroup } from "@chakra-ui/react";
import { useQuery } from "@tanstack/react-query";
import { useCallback, useMemo, useState } from "react";
import { X } from "lucide-react";
import { Link, useSearchParams } from "react-router";

import { api, unwrap } from "../api/client";
import { usePlan } from "../api/plan";
import { interfacesOf } from "../decks/fields";
import { OutcomeList } from "../decks/Panel";
import { counted, EXPECTED, meetingOf, MEETINGS } from "../meetings/states";
import { WORDS } from "../model/kinds";
import { compareNames, segmentTag, type Book } from "../model/records";
import { Quiet } from "../parts/controls";
import { MarkSheet, WordsField, type MarkRow, type Shown } from "../parts/MarkSheet";
import { matching, SearchBox, type Choice } from "../parts/SearchBox";

interface Row extends MarkRow {
  letters: string;
  /** A ! where it isn't as rules expect. */
  wrong: string;
}

type By = "segment" | "role" | "end";

const pinned = (name: string) => [{ prop: "name", name, size: 190, pin: "colPinStart" as const, readonly: true }];
const PINNED = { segment: pinned("Segment"), role: pinned("Role"), end: pinned("Endpoint") };
/** What the segments are called that have no role. */
const NO_ROLE = "no role";

const SAID: Readonly<Record<By, { one: string; many: string; empty: string }>> = {
  segment: {
    one: "segment",
    many: "Segments",
    empty: "Segments come from the Ledger; then this shows which of them meet.",
  },
  role: { one: "role", many: "Roles", empty: "Segments come from the Ledger; then this shows which of them meet." },
  end: {
    one: "endpoint",
    many: "Endpoints",
    empty:
      "Choose guests, stations, hosts or outside networks above: from two on, this shows how they stand to each other.",
  },
};

/** How segments, roles, or chosen endpoints (ids), stand to each other. */
function useMeetings(by: By, of: readonly string[] = NOBODY) {
  const { id, at, snapshot } = usePlan();
  return useQuery({
    queryKey: ["meetings", id, at, snapshot.revision, by, of.join("\n")],
    queryFn: async () => {
      const query = by === "end" ? { of: [...of] } : { by };
      return unwrap(await api.GET("/api/plans/{plan_id}/meetings", { params: { path: { plan_id: id }, query } }));
    },
    enabled: by !== "end" || of.length > 1,
    placeholderData: (before, query) => (query?.queryKey[4] === by && by !== "end" ? before : undefined),
  });
}

const NOBODY: readonly string[] = [];
const NONE = { segments: [], rows: [], expected: [], wrong: [] };

/** Whoever may be chosen. */
function endsOf(book: Book): Choice[] {
  return (["guest", "station", "host", "outside"] as const)
    .flatMap((kind) =>
      book.records[kind].map(({ id, name }) => ({
        value: id,
        label: name,
        detail: WORDS[kind][0],
        text: `${name} ${WORDS[kind][0]}`.toLowerCase(),
      })),
    )
    .sort((a, b) => compareNames(a.label, b.label));
}

/** Whom of a plan one looks at: a field that adds, and those who are chosen, each of whom can be let go. */
function Chosen({ of, put }: { of: readonly string[]; put: (of: string[]) => void }) {
  const { book } = usePlan();
  const choices = useMemo(() => endsOf(book), [book]);
  const find = useCallback(
    (typed: string) =>
      matching(
        choices.filter(({ value }) => !of.includes(value)),
        typed,
      ),
    [choices, of],
  );
  return (
    <>
      <SearchBox
        label="Add"
        value=""
        said=""
        width="210px"
        size="xs"
        find={find}
        put={(id) => id && put([...of, id])}
        placeholder="guest, station, host"
        empty="Nobody by that name."
      />
      <HStack as="ul" aria-label="Chosen" gap="1" wrap="wrap" listStyleType="none">
        {of.map((id) => (
          <li key={id}>
            <Button size="2xs" variant="outline" onClick={() => put(of.filter((other) => other !== id))}>
              {String(book.byId.get(id)?.name ?? id)} <X size={12} aria-label="let go" />
            </Button>
          </li>
        ))}
      </HStack>
    </>
  );
}

/** Segments, or roles, against each other: who meets or reaches whom, against what rules expect. */
export function Meetings() {
  const { at, book } = usePlan();
  const [params, setParams] = useSearchParams();
  const of = useMemo(() => params.getAll("of").filter((id) => book.byId.has(id)), [params, book]);
  const [by, setBy] = useState<By>(of.length ? "end" : "segment");
  const asked = useMeetings(by, of);
  const data = asked.data ?? (by === "end" && of.length < 2 ? NONE : undefined);
  const [only, setOnly] = useState("");
  const [off, setOff] = useState(false);
  const [picked, setPicked] = useState<{ a: string; b: string } | null>(null);
  const [ending, setEnding] = useState(false);

  const columns = useMemo(
    () =>
      (data?.segments ?? [])
        .map((segment, at) => {
          if (by === "end") {
            const name = String(book.byId.get(segment)?.name ?? segment);
            return { id: segment, at, head: name, name };
          }
          if (by === "role") return { id: segment, at, head: segment || NO_ROLE, name: segment || NO_ROLE };
          const own = book.get("segment", segment);
          const head = own?.name ?? segment;
          return { id: segment, at, head, name: `${head} ${segmentTag(own)}` };
        })
        .sort((a, b) => compareNames(a.name, b.name)),
    [data, book, by],
  );
  const rows = useMemo<Row[]>(() => {
    const wanted = only.trim().toLowerCase();
    return columns
      .map(({ id, at, name }) => ({
        id,
        name,
        letters: data?.rows[at] ?? "",
        wrong: data?.wrong[at] ?? "",
      }))
      .filter(({ name, wrong }) => name.toLowerCase().includes(wanted) && (!off || wrong.includes("!")));
  }, [data, columns, only, off]);
  const shown = useCallback((row: Row, at: number): Shown => {
    const { mark, word, tone } = meetingOf(row.letters[at] ?? "-");
    const wrong = row.wrong[at] === "!";
    return {
      mark,
      says: `${word}${wrong ? ", not as rules expect" : ""}`,
      classes: { [`by-hosts-${tone}`]: true, "by-hosts-off": wrong },
    };
  }, []);

  if (asked.error) return <p role="alert">{asked.error.message}</p>;
  if (!data && by !== "end") return <p role="status">Asking every segment about every other…</p>;
  const { segments, rows: letters, expected } = data ?? NONE;
  const [one, two] = [picked?.a, picked?.b].map((segment) => segments.indexOf(segment ?? ""));
  const counts = one !== undefined ? counted(letters[one] ?? "") : "";
  const { one: what, many, empty } = SAID[by];
  const turn = (to: By): void => {
    setBy(to);
    setPicked(null);
    setEnding(false);
    setOnly("");
  };
  return (
    <MarkSheet
      key={by}
      label={`${many} against each other`}
      filters={
        <>
          <SegmentGroup.Root
            size="xs"
            value={by}
            onValueChange={({ value }) => turn(value as By)}
            aria-label="Against each other"
          >
            <SegmentGroup.Indicator />
            <SegmentGroup.Items
              items={[
                { value: "segment", label: "Segments" },
                { value: "role", label: "Roles" },
                { value: "end", label: "Chosen" },
              ]}
            />
          </SegmentGroup.Root>
          {by === "end" && (
            <Chosen
              of={of}
              put={(ids) => {
                setPicked(null);
                setParams(new URLSearchParams(ids.map((id) => ["of", id])), { replace: true });
              }}
            />
          )}
          {by !== "end" && <WordsField label={`${many} with`} value={only} put={setOnly} />}
          <Button size="xs" variant="outline" aria-pressed={off} onClick={() => setOff(!off)}>
            {off ? "All rows" : "Rows that aren’t as rules expect"}
          </Button>
          <Quiet>
            {rows.length} {rows.length === 1 ? what : `${what}s`} against {columns.length}
          </Quiet>
        </>
      }
      legend={MEETINGS}
      after={
        <li title="A rule expects otherwise">
          <span className="by-hosts-off by-hosts-swatch" aria-hidden /> not as rules expect
        </li>
      }
      pinned={PINNED[by]}
      columns={columns}
      rows={rows}
      empty={
        columns.length
          ? "Nothing here has these words, or is otherwise than rules expect."
          : asked.isFetching
            ? "Asking each about every other…"
            : empty
      }
      shown={shown}
      pick={(a, at) => {
        const b = at === null ? undefined : segments[at];
        setPicked(b !== undefined && (b !== a || by === "role") ? { a, b } : null);
        setEnding(false);
      }}
      enter={() => {
        if (!picked || at !== undefined || by !== "segment") return false;
        setEnding(true);
        return true;
      }}
      leave={() => setEnding(false)}
    >
      {picked && by === "role" && one !== undefined && two !== undefined && one >= 0 && two >= 0 ? (
        <OneRoles
          {...picked}
          letter={letters[one]?.[two] ?? "-"}
          expected={expected[one]?.[two] ?? " "}
          row={counts}
          look={(a, b) => {
            turn("segment");
            setPicked({ a, b });
          }}
        />
      ) : picked && by === "end" && one !== undefined && two !== undefined && one >= 0 && two >= 0 ? (
        <OneEnds {...picked} letter={letters[one]?.[two] ?? "-"} expected={expected[one]?.[two] ?? " "} row={counts} />
      ) : picked && one !== undefined && two !== undefined && one >= 0 && two >= 0 ? (
        <OneMeeting
          key={`${picked.a}|${picked.b}`}
          {...picked}
          letter={letters[one]?.[two] ?? "-"}
          expected={expected[one]?.[two] ?? " "}
          ending={ending}
          end={setEnding}
          row={counts}
        />
      ) : (
        <Quiet>
          {by === "segment"
            ? "Pick a cell: arrows or a click say over what two segments meet, Enter what would end it."
            : by === "role"
              ? "Pick a cell: arrows or a click say which segments of two roles meet."
              : "Pick a cell: arrows or a click lead to the way between two."}{" "}
          {counted(letters.flatMap((row, n) => [...row].slice(n + 1)))}
        </Quiet>
      )}
    </MarkSheet>
  );
}

/** Two endpoints in words, and where their ways are shown. */
function OneEnds({
  a,
  b,
  letter,
  expected,
  row,
}: {
  a: string;
  b: string;
  letter: string;
  expected: string;
  row: string;
}) {
  const { base, book } = usePlan();
  const [one, two] = [a, b].map((id) => String(book.byId.get(id)?.name ?? id));
  const ends = [a, b].map((id) => firstEnd(book, id));
  return (
    <>
      <Heading as="h2" size="sm" fontWeight="600">
        {one} to {two}: {meetingOf(letter).word}
        {EXPECTED[expected] && `; ${EXPECTED[expected]}`}
      </Heading>
      {ends[0] && ends[1] && (
        <Link
          className="plain-link"
          to={`${base}/trace?a=${encodeURIComponent(ends[0])}&b=${encodeURIComponent(ends[1])}`}
        >
          Trace and ping
        </Link>
      )}
      <Quiet>
        <b>{one}</b>: {row}
      </Quiet>
    </>
  );
}

/** The interface by which somebody is traced: the first of a guest, station or host; an outside network itself. */
function firstEnd(book: Book, id: string): string | undefined {
  if (book.get("outside", id)) return id;
  return interfacesOf(book, id)[0]?.[0];
}

/** Two roles in words: which of their segments meet or reach each other, and how. */
function OneRoles({
  a,
  b,
  letter,
  expected,
  row,
  look,
}: {
  a: string;
  b: string;
  letter: string;
  expected: string;
  row: string;
  /** Look at two segments by themselves. */
  look: (a: string, b: string) => void;
}) {
  const { book } = usePlan();
  const asked = useMeetings("segment");
  const { segments = [], rows = [], wrong = [] } = asked.data ?? {};
  const of = (role: string): number[] =>
    segments.flatMap((id, n) => ((book.get("segment", id)?.role ?? "") === role ? [n] : []));
  const pairs = of(a)
    .flatMap((n) => of(b).map((m): [number, number] => [n, m]))
    .filter(([n, m]) => (a === b ? n < m : true) && !".-".includes(rows[n]?.[m] ?? "-"));
  const names = (n: number, m: number): string =>
    [n, m].map((k) => book.get("segment", segments[k]!)?.name ?? segments[k]).join(" to ");
  return (
    <>
      <Heading as="h2" size="sm" fontWeight="600">
        {a || NO_ROLE} to {b || NO_ROLE}: {meetingOf(letter).word}
        {EXPECTED[expected] && `; ${EXPECTED[expected]}`}
      </Heading>
      {asked.error && <p role="alert">{asked.error.message}</p>}
      {asked.data && (
        <HStack
          as="ul"
          aria-label="Segments of the two"
          listStyleType="none"
          gap="3"
          wrap="wrap"
          my="1"
          fontSize="13px"
        >
          {pairs.map(([n, m]) => (
            <li key={`${n} ${m}`}>
              <Button size="2xs" variant="outline" onClick={() => look(segments[n]!, segments[m]!)}>
                {names(n, m)}
              </Button>{" "}
              {meetingOf(rows[n]?.[m] ?? "-").word}
              {wrong[n]?.[m] === "!" && ", not as rules expect"}
            </li>
          ))}
          {!pairs.length && <li>No segment of the one meets or reaches one of the other.</li>}
        </HStack>
      )}
      <Quiet>
        <b>{a || NO_ROLE}</b>: {row}
      </Quiet>
    </>
  );
}

/** Two segments in words: over what they meet, what would end it, and a rule. */
function OneMeeting({
  a,
  b,
  letter,
  expected,
  ending,
  end,
  row,
}: {
  a: string;
  b: string;
  letter: string;
  expected: string;
  /** Whether the edits that end it stand open. */
  ending: boolean;
  end: (ending: boolean) => void;
  row: string;
}) {
  const { id, at, base, book, snapshot, edit } = usePlan();
  // Edits are tried once somebody asks for them, not for every cell that the eye is on.
  const endings = ending ? "tried" : "left";
  const asked = useQuery({
    queryKey: ["meeting", id, at, snapshot.revision, a, b, endings],
    queryFn: async () =>
      unwrap(
        await api.GET("/api/plans/{plan_id}/meeting", { params: { path: { plan_id: id }, query: { a, b, endings } } }),
      ),
    placeholderData: (before) => before,
  });
  const names = [book.get("segment", a)?.name ?? a, book.get("segment", b)?.name ?? b] as const;
  const said = asked.data;
  const met = "mb<>".includes(letter);
  return (
    <>
      <Heading as="h2" size="sm" fontWeight="600">
        {names[0]} to {names[1]}: {meetingOf(letter).word}
        {EXPECTED[expected] && `; ${EXPECTED[expected]}`}
      </Heading>
      {asked.error && <p role="alert">{asked.error.message}</p>}
      {!said && !asked.error && <Quiet>…</Quiet>}
      {said && (
        <List.Root aria-label="What is found" listStyle="none" my="1">
          {said.found.map((told) => (
            <List.Item key={told.text}>
              {told.text}{" "}
              {told.a && told.b && (
                <Link
                  className="plain-link"
                  to={`${base}/trace?a=${encodeURIComponent(told.a)}&b=${encodeURIComponent(told.b)}`}
                >
                  Trace
                </Link>
              )}
            </List.Item>
          ))}
        </List.Root>
      )}
      {met && at === undefined && !ending && (
        <Button size="xs" variant="outline" my="1" onClick={() => end(true)}>
          What would end it
        </Button>
      )}
      {met && at === undefined && ending && said && !asked.isPlaceholderData && (
        <OutcomeList
          label="What would end it"
          proposals={said.endings.map(({ title, edit: operations }) => ({
            key: title,
            label: title,
            detail: "",
            message: title,
            operations,
          }))}
          endpoint={null}
          take={(proposal) => void edit(proposal.message, proposal.operations).then((made) => made && end(false))}
          empty="No edit was found that would end it by itself."
        />
      )}
      <HStack gap="4" wrap="wrap" fontSize="12px">
        <span>
          <b>{names[0]}</b>: {row}
        </span>
        {said && expected === " " && at === undefined && (
          <Link className="plain-link" to={`${base}/rules?write=${encodeURIComponent(said.rule)}`}>
            A rule that keeps them apart
          </Link>
        )}
      </HStack>
    </>
  );
}
