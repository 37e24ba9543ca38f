import { Button, Heading, HStack } from "@chakra-ui/react";
import { useQuery } from "@tanstack/react-query";
import { useCallback, useMemo, useState } from "react";
import { Link } from "react-router";

import { api, unwrap } from "../api/client";
import { usePlan } from "../api/plan";
import { GestureForm } from "../decks/Gestures";
import { hostColumns } from "../lattice/hosts";
import { stateOf, STATES, tally } from "../lattice/states";
import { counted } from "../model/kinds";
import { compareNames, segmentTag } from "../model/records";
import { Quiet } from "../parts/controls";
import { MarkSheet, WordsField, type MarkRow, type Shown } from "../parts/MarkSheet";

interface Row extends MarkRow {
  letters: string;
}

const PINNED = [{ prop: "name", name: "Segment", size: 190, pin: "colPinStart" as const, readonly: true }];

/** Segments by hosts: a row reads as consistency across the fleet, a column as a host's fitness to take guests. */
export function Lattice() {
  const { id, at, base, book, snapshot } = usePlan();
  const asked = useQuery({
    queryKey: ["lattice", id, at, snapshot.revision],
    queryFn: async () => unwrap(await api.GET("/api/plans/{plan_id}/lattice", { params: { path: { plan_id: id } } })),
    placeholderData: (before) => before,
  });
  const [onHosts, setOnHosts] = useState("");
  const [onSegments, setOnSegments] = useState("");
  const [uneven, setUneven] = useState(false);
  const [picked, setPicked] = useState<{ segment: string; host: string } | null>(null);
  const [giving, setGiving] = useState(false);

  const hosts = useMemo(() => hostColumns(book, asked.data?.hosts ?? [], onHosts), [asked.data, onHosts, book]);
  const rows = useMemo<Row[]>(() => {
    const wanted = onSegments.trim().toLowerCase();
    return Object.entries(asked.data?.rows ?? {})
      .map(([segment, letters]) => {
        const own = book.get("segment", segment);
        return { id: segment, name: `${own?.name ?? segment} ${segmentTag(own)}`, letters };
      })
      .filter(({ name, letters }) => {
        if (!name.toLowerCase().includes(wanted)) return false;
        // Even is a row in which everybody who offers it carries it, and nobody is off a pattern.
        return !uneven || /[suxlSUXLCRQ-]/.test(letters);
      })
      .sort((a, b) => compareNames(a.name, b.name));
  }, [asked.data, onSegments, uneven, book]);
  const shown = useCallback((row: Row, at: number): Shown => {
    const { state, off } = stateOf(row.letters[at] ?? ".");
    return {
      mark: state.mark,
      says: `${state.word}${off ? ", off pattern" : ""}`,
      classes: { [`by-hosts-${state.tone}`]: true, "by-hosts-off": off },
    };
  }, []);

  if (asked.error) return <p role="alert">{asked.error.message}</p>;
  if (!asked.data) return <p role="status">Looking at every way of every host…</p>;
  const { hosts: all, rows: letters } = asked.data;
  const letter = picked && letters[picked.segment]?.[all.indexOf(picked.host)];
  return (
    <MarkSheet
      label="Segments by hosts"
      filters={
        <>
          <WordsField label="Segments with" value={onSegments} put={setOnSegments} />
          <WordsField label="Hosts with" value={onHosts} put={setOnHosts} />
          <Button size="xs" variant="outline" aria-pressed={uneven} onClick={() => setUneven(!uneven)}>
            {uneven ? "All rows" : "Uneven rows alone"}
          </Button>
          <Quiet>
            {counted("segment", rows.length)} by {counted("host", hosts.length)}
          </Quiet>
        </>
      }
      legend={STATES}
      after={
        <li title="The host is off a pattern there">
          <span className="by-hosts-off by-hosts-swatch" aria-hidden /> off pattern
        </li>
      }
      pinned={PINNED}
      columns={hosts}
      rows={rows}
      empty={
        Object.keys(letters).length && all.length
          ? "Nothing here has these words, or is uneven."
          : "Segments come from the Ledger, hosts from Decks; then this shows who offers which."
      }
      shown={shown}
      pick={(segment, at) => {
        const host = at === null ? undefined : all[at];
        setPicked(host !== undefined ? { segment, host } : null);
        setGiving(false);
      }}
      enter={() => {
        if (!picked || at !== undefined) return false;
        setGiving(true);
        return true;
      }}
      leave={() => setGiving(false)}
    >
      {picked && letter ? (
        <OneCell {...picked} letter={letter} giving={giving} give={setGiving} />
      ) : (
        <Quiet>
          Pick a cell: arrows or a click say what it is, Enter gives the host that segment. {tallies(letters)}
        </Quiet>
      )}
      {picked && (
        <HStack gap="4" wrap="wrap" fontSize="12px">
          <span>
            <b>{book.get("segment", picked.segment)?.name}</b>: {tally(letters[picked.segment] ?? "")}
          </span>
          <span>
            <b>{book.get("host", picked.host)?.name}</b>:{" "}
            {tally(Object.values(letters).map((row) => row[all.indexOf(picked.host)] ?? "."))}
          </span>
          <Link className="plain-link" to={`${base}/decks?at=${encodeURIComponent(picked.host)}`}>
            On Decks
          </Link>
        </HStack>
      )}
    </MarkSheet>
  );
}

/** One cell in words, and what can be done about it. */
function OneCell({
  segment,
  host,
  letter,
  giving,
  give,
}: {
  segment: string;
  host: string;
  letter: string;
  /** Whether the host is to be given the segment: what that would change stands open. */
  giving: boolean;
  give: (giving: boolean) => void;
}) {
  const { at, book } = usePlan();
  const { state, off } = stateOf(letter);
  const names = [book.get("segment", segment)?.name, book.get("host", host)?.name] as const;
  const can = at === undefined && Boolean(book.get("segment", segment)?.vid) && state.letter !== "c";
  return (
    <>
      <Heading as="h2" size="sm" fontWeight="600">
        {names[0]} on {names[1]}: {state.word}
        {off && ", off its pattern"}
      </Heading>
      <Quiet>{state.says}.</Quiet>
      {can && !giving && (
        <Button size="xs" variant="outline" my="1" onClick={() => give(true)}>
          Offer it there
        </Button>
      )}
      {giving && can && (
        <GestureForm
          name="offer"
          args={{ segment, hosts: [host] }}
          ready
          action={`Offer ${names[0]} on ${names[1]}`}
          done={() => give(false)}
        >
          <Quiet>A port group with its VID; the switch’s uplinks and their ports let it through.</Quiet>
        </GestureForm>
      )}
    </>
  );
}

const tallies = (rows: Record<string, string>): string => tally(Object.values(rows).join(""));
