import { useCallback, useMemo, useState, type FormEvent } from "react";

import type { RecordOf } from "../api/client";
import { usePlan, usePresence } from "../api/plan";
import { patch } from "../decks/edits";
import { freshId, put } from "../decks/making";
import { Outcome, usePreviews } from "../decks/Panel";
import { FlagLine, ChoiceLine, TakeButton, Taking, TextLine, Told } from "../parts/controls";
import { matching, SearchBox } from "../parts/SearchBox";
import { chosenOf, interfaces, senderOf, senders } from "./ends";

const WHERETO = [
  ["gateway", "its gateway"],
  ["others", "the others alike"],
  ["one", "one"],
] as const;
const NUMBERS = [
  ["sends", "Sends", "Mbit/s"],
  ["gets", "Gets back", "Mbit/s"],
  ["limit", "Held to", "Mbit/s, if anything"],
  ["packet", "Packets of", "bytes, if not full"],
] as const;
type Numbers = Record<(typeof NUMBERS)[number][0], string>;

const numbersOf = (flow: RecordOf<"flow"> | null): Numbers =>
  Object.fromEntries(NUMBERS.map(([name]) => [name, String(flow?.[name] ?? "")])) as Numbers;

/** What somebody sends, said anew or otherwise than before. `of`: who it is, where that is settled. */
export function FlowForm({
  flow,
  of,
  done,
  close,
}: {
  flow: RecordOf<"flow"> | null;
  of?: string;
  done: () => void;
  /** Leave all as it is, where the form can be left. */
  close?: () => void;
}) {
  const { at, book, edit } = usePlan();
  const { busy } = usePresence();
  const [name, setName] = useState(flow?.name ?? "");
  const [who, setWho] = useState(of ?? (flow ? chosenOf(flow) : ""));
  const [towards, setTowards] = useState<string>(flow?.towards ?? "gateway");
  const [to, setTo] = useState(flow?.to ?? "");
  const [burst, setBurst] = useState(flow?.burst ?? false);
  const [numbers, setNumbers] = useState(() => numbersOf(flow));
  const from = useMemo(() => (of === undefined ? senders(book) : []), [book, of]);
  const places = useMemo(() => (towards === "one" ? interfaces(book) : []), [book, towards]);
  const findFrom = useCallback((typed: string) => matching(from, typed), [from]);
  const findTo = useCallback((typed: string) => matching(places, typed), [places]);
  const wrong = NUMBERS.filter(([number]) => numbers[number] && !/^\d+$/.test(numbers[number].trim()));
  const said = {
    name: name.trim(),
    ...senderOf(who),
    towards,
    to: towards === "one" ? to || null : null,
    burst,
    ...Object.fromEntries(NUMBERS.map(([n]) => [n, numbers[n].trim() ? Number(numbers[n]) : null])),
  };
  const changed = flow
    ? Object.fromEntries(
        Object.entries(said).filter(([n, value]) => (flow[n as keyof typeof flow] ?? absent(n)) !== value),
      )
    : said;
  const ready = Boolean(
    said.name && who && (numbers.sends.trim() || numbers.gets.trim()) && (towards !== "one" || to) && !wrong.length,
  );
  const operations = !ready
    ? []
    : flow
      ? Object.keys(changed).length
        ? [patch("flow", flow.id, changed)]
        : []
      : [put("flow", { id: freshId(book, `flow-${said.name}`), ...said })];
  const { results, error } = usePreviews([operations], operations.length > 0);
  const blocked = at !== undefined || busy || !operations.length || Boolean(results?.[0]?.problems.length);
  const take = (event: FormEvent): void => {
    event.preventDefault();
    if (blocked) return;
    void edit(flow ? `Change ${flow.name}` : `Say what ${said.name} sends`, operations).then((made) => made && done());
  };
  return (
    <form
      onSubmit={take}
      aria-label={flow ? flow.name : "Another flow"}
      onKeyDown={(event) => {
        if (event.key === "Escape" && close) close();
      }}
    >
      <TextLine label="Name" value={name} put={setName} hint="nightly backup" plain />
      {of === undefined && (
        <SearchBox
          label="Who sends"
          value={who}
          said={from.find((c) => c.value === who)?.label ?? ""}
          find={findFrom}
          put={setWho}
          placeholder="a segment, service, guest"
          empty="Nobody by that name."
          width="100%"
          size="xs"
          wide="92px"
        />
      )}
      <ChoiceLine label="Sends to" value={towards} put={setTowards} options={WHERETO} />
      {towards === "one" && (
        <SearchBox
          label="Whom"
          value={to}
          said={places.find((c) => c.value === to)?.label ?? ""}
          find={findTo}
          put={setTo}
          placeholder="a guest, host port, station"
          empty="Nobody by that name."
          width="100%"
          size="xs"
          wide="92px"
        />
      )}
      {NUMBERS.map(([number, label, hint]) => (
        <TextLine
          key={number}
          label={label}
          value={numbers[number]}
          put={(value) => setNumbers({ ...numbers, [number]: value })}
          hint={hint}
          numeric
        />
      ))}
      <FlagLine label="Now and then" value={burst} put={setBurst} />
      {wrong.length > 0 ? (
        <Told tone="bad">{wrong.map(([, label]) => `${label}: a whole number is needed`).join("; ")}</Told>
      ) : operations.length ? (
        <Outcome result={results?.[0]} error={error} />
      ) : (
        <Told tone="quiet">
          {flow ? "Nothing changed yet." : "A name, who sends, and how much that is, in Mbit/s of packets."}
        </Told>
      )}
      <Taking keys="Enter takes, Esc leaves all as it is">
        <TakeButton type="submit" disabled={blocked}>
          {flow ? "Take it" : "Add the flow"}
        </TakeButton>
      </Taking>
    </form>
  );
}

/** What a field of a flow is where it isn't said. */
function absent(name: string): unknown {
  return name === "burst" ? false : name === "service" || name === "name" ? "" : name === "towards" ? "gateway" : null;
}
