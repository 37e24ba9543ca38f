import "../moves/moves.css";

import { Button, Heading, HStack, List } from "@chakra-ui/react";
import { useQuery } from "@tanstack/react-query";
import { useCallback, useMemo, useState } from "react";
import { Link, useSearchParams } from "react-router";

import { api, unwrap } from "../api/client";
import { usePlan } from "../api/plan";
import { GestureForm } from "../decks/Gestures";
import { hostColumns } from "../lattice/hosts";
import { counted } from "../model/kinds";
import { compareNames } from "../model/records";
import { fareOf, FARES, tallied } from "../moves/fares";
import { TakeOut } from "../moves/TakeOut";
import { Quiet } from "../parts/controls";
import { MarkSheet, WordsField, type MarkRow, type Shown } from "../parts/MarkSheet";

interface Row extends MarkRow {
  on: string;
  letters: string;
}

/** In place of the letter of a guest's own host. */
const HERE = "h";
const PINNED = [
  { prop: "name", name: "Guest", size: 170, pin: "colPinStart" as const, readonly: true },
  { prop: "on", name: "Is on", size: 100, pin: "colPinStart" as const, readonly: true },
];

/** Guest by host: where each could run, what it would miss, and where everybody goes when a host is taken out. */
export function Moves() {
  const { id, at, base, book, snapshot } = usePlan();
  const [query, setQuery] = useSearchParams();
  const asked = useQuery({
    queryKey: ["moves", id, at, snapshot.revision],
    queryFn: async () => unwrap(await api.GET("/api/plans/{plan_id}/moves", { params: { path: { plan_id: id } } })),
    placeholderData: (before) => before,
  });
  const [onGuests, setOnGuests] = useState(book.get("guest", query.get("guest") ?? "")?.name ?? "");
  const [onHosts, setOnHosts] = useState("");
  const [stuck, setStuck] = useState(false);
  const [picked, setPicked] = useState<{ guest: string; host: string } | null>(null);
  const [trying, setTrying] = useState(false);
  const out = query.get("out");
  const takeOut = (host: string | null): void =>
    setQuery(
      (before) => {
        if (host === null) before.delete("out");
        else before.set("out", host);
        return before;
      },
      { replace: true },
    );

  const hosts = useMemo(() => hostColumns(book, asked.data?.hosts ?? [], onHosts), [asked.data, onHosts, book]);
  const every = useMemo(() => {
    const { hosts: all = [], rows: letters = [], guests = {} } = asked.data ?? {};
    const number = new Map(all.map((host, at) => [host, at]));
    return new Map(
      Object.entries(guests).map(([guest, row]): [string, Row] => {
        const own = book.get("guest", guest);
        const on = own?.host ?? "";
        const here = number.get(on) ?? -1;
        const said = letters[row] ?? "";
        const marked = `${said.slice(0, here)}${HERE}${said.slice(here + 1)}`;
        return [guest, { id: guest, name: own?.name ?? guest, on: book.get("host", on)?.name ?? on, letters: marked }];
      }),
    );
  }, [asked.data, book]);
  const rows = useMemo<Row[]>(() => {
    const wanted = onGuests.trim().toLowerCase();
    return [...every.values()]
      .filter(
        ({ name, on, letters }) =>
          (name.toLowerCase().includes(wanted) || on.toLowerCase().includes(wanted)) &&
          (!stuck || !/[rcl]/.test(letters)),
      )
      .sort((a, b) => compareNames(a.name, b.name));
  }, [every, onGuests, stuck]);
  const shown = useCallback((row: Row, at: number): Shown => {
    const letter = row.letters[at] ?? "x";
    if (letter === HERE) return { mark: "■", says: "is there", classes: { "moves-here": true } };
    const { mark, word, tone } = fareOf(letter);
    return { mark, says: word, classes: { [`by-hosts-${tone}`]: true } };
  }, []);

  if (asked.error) return <p role="alert">{asked.error.message}</p>;
  if (!asked.data) return <p role="status">Trying every guest on every host…</p>;
  const { hosts: all } = asked.data;
  return (
    <MarkSheet
      label="Guests by hosts"
      filters={
        <>
          <WordsField label="Guests with" value={onGuests} put={setOnGuests} />
          <WordsField label="Hosts with" value={onHosts} put={setOnHosts} />
          <Button size="xs" variant="outline" aria-pressed={stuck} onClick={() => setStuck(!stuck)}>
            {stuck ? "All guests" : "Guests without another place"}
          </Button>
          <Button
            size="xs"
            variant="outline"
            aria-pressed={out !== null}
            onClick={() => takeOut(out === null ? "" : null)}
          >
            Take a host out
          </Button>
          <Quiet>
            {counted("guest", rows.length)} by {counted("host", hosts.length)}
          </Quiet>
        </>
      }
      legend={FARES}
      before={
        <li>
          <span className="moves-here" aria-hidden>
            ■
          </span>{" "}
          is there
        </li>
      }
      pinned={PINNED}
      columns={hosts}
      rows={rows}
      empty={
        every.size
          ? "No guest here has these words, or is without another place."
          : "Guests are attached on Decks; then this shows on which other host each could run."
      }
      shown={shown}
      pick={(guest, at) => {
        const host = at === null ? undefined : all[at];
        setPicked(host !== undefined ? { guest, host } : null);
        setTrying(false);
      }}
      enter={() => {
        if (!picked || at !== undefined) return false;
        setTrying(true);
        return true;
      }}
      leave={() => setTrying(false)}
      aside={
        out !== null && (
          <TakeOut
            host={book.get("host", out) ? out : ""}
            choose={takeOut}
            pick={(guest, host) => setPicked({ guest, host })}
          />
        )
      }
    >
      {picked && book.get("guest", picked.guest) && book.get("host", picked.host) ? (
        <>
          <OneMove key={`${picked.guest}|${picked.host}`} {...picked} trying={trying} tries={setTrying} />
          <HStack gap="4" wrap="wrap" fontSize="12px">
            <span>
              <b>{book.get("guest", picked.guest)?.name}</b>:{" "}
              {tallied(every.get(picked.guest)?.letters ?? "") || "there is no other host"}
            </span>
            <Link className="plain-link" to={`${base}/decks?at=${encodeURIComponent(picked.guest)}`}>
              On Decks
            </Link>
          </HStack>
        </>
      ) : (
        <Quiet>Pick a cell: arrows or a click say what a guest would miss on a host, Enter tries the move.</Quiet>
      )}
    </MarkSheet>
  );
}

/** One guest on one host in words, and the move itself. */
function OneMove({
  guest,
  host,
  trying,
  tries,
}: {
  guest: string;
  host: string;
  /** Whether what the move would change stands open. */
  trying: boolean;
  tries: (trying: boolean) => void;
}) {
  const { id, at, book, snapshot } = usePlan();
  const asked = useQuery({
    queryKey: ["move", id, at, snapshot.revision, guest, host],
    queryFn: async () =>
      unwrap(await api.GET("/api/plans/{plan_id}/move", { params: { path: { plan_id: id }, query: { guest, host } } })),
  });
  const own = book.get("guest", guest)!;
  const names = [own.name, book.get("host", host)?.name ?? host] as const;
  const here = own.host === host;
  const said = asked.data;
  return (
    <>
      <Heading as="h2" size="sm" fontWeight="600">
        {names[0]} on {names[1]}: {here ? "is there" : said ? fareOf(said.fares).word : "…"}
      </Heading>
      {asked.error && <p role="alert">{asked.error.message}</p>}
      {said && said.reasons.length > 0 && (
        <List.Root aria-label="What it would miss" listStyle="none" my="1">
          {said.reasons.map((reason) => (
            <List.Item key={reason.text}>
              <span className={`by-hosts-${fareOf(reason.letter).tone}`} aria-hidden>
                {fareOf(reason.letter).mark}
              </span>{" "}
              {reason.text}
            </List.Item>
          ))}
        </List.Root>
      )}
      {said && !here && !said.reasons.length && <Quiet>{fareOf(said.fares).says}.</Quiet>}
      {!here && at === undefined && !trying && (
        <Button size="xs" variant="outline" my="1" onClick={() => tries(true)}>
          Try the move
        </Button>
      )}
      {!here && at === undefined && trying && (
        <GestureForm
          name="move-guests"
          args={{ guests: [guest], host }}
          ready
          action={`Move ${names[0]} to ${names[1]}`}
          done={() => tries(false)}
        >
          <Quiet>Its adapters take the port groups there that are most like their own.</Quiet>
        </GestureForm>
      )}
    </>
  );
}
