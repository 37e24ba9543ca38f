import "./tables.css";
import { LinkButton } from "../parts/controls";

import { Button, Field, HStack, Input } from "@chakra-ui/react";
import { useQuery } from "@tanstack/react-query";
import { ArrowRightLeft, Download } from "lucide-react";
import { useCallback, useMemo, useState } from "react";
import { useSearchParams } from "react-router";

import { api, unwrap, type Endpoint, type Ping, type Trace, type Way } from "../api/client";
import { usePlan } from "../api/plan";
import type { Reading } from "../model/over";
import { frameEnd, type Book } from "../model/records";
import { matching, SearchBox, type Choice } from "../parts/SearchBox";

/**
 * Everything from which a frame can start: endpoints, and the interfaces of stations, each with the tag that it
 * sends. Outside networks beside, which answer pings alone.
 */
function ends(book: Book, endpoints: Reading<string, Endpoint>): Choice[] {
  const made: Choice[] = [];
  const add = (value: string, name: string, tag: string, more: string): void => {
    const label = tag === "untagged" ? name : `${name} tag ${tag}`;
    made.push({ value, label, detail: value, text: `${label} ${value} ${more}`.toLowerCase() });
  };
  for (const e of endpoints.values())
    for (const t of e.tags) add(frameEnd(e, t.tag), e.name, t.tag, t.addresses.join(" "));
  for (const port of book.records.station_port) {
    const name = book.get("station", port.station)?.name ?? "";
    add(port.id, name, port.vid ? String(port.vid) : "untagged", `station ${(port.addresses ?? []).join(" ")}`);
  }
  for (const outside of book.records.outside)
    made.push({
      value: outside.id,
      label: outside.name,
      detail: "outside",
      text: `outside ${outside.name}`.toLowerCase(),
    });
  return made;
}

export function TraceView() {
  const { id, at, snapshot, book } = usePlan();
  const of = snapshot.draft_of;
  const [params, setParams] = useSearchParams();
  const choices = useMemo(() => ends(book, snapshot.endpoints), [book, snapshot.endpoints]);
  // A link may name an endpoint by its id.
  const named = (end: string): string => {
    const tag = book.get("guest_tag", end);
    const endpoint = snapshot.endpoints.get(tag?.adapter ?? end);
    return endpoint ? frameEnd(endpoint, tag ? String(tag.vid) : endpoint.tags[0]?.tag) : end;
  };
  const a = named(params.get("a") ?? "");
  const b = named(params.get("b") ?? "");
  const on = params.get("on") ?? "";
  const find = useCallback((typed: string) => ways(choices, typed), [choices]);
  const findTo = useCallback(
    (typed: string) => {
      const text = typed.trim();
      const found = ways(choices, typed);
      return ADDRESS.test(text) && !found.some((c) => c.value === text)
        ? [...found, { value: text, label: text, detail: "as an address", text }]
        : found;
    },
    [choices],
  );
  const nameOf = (record: string): string => nameIn(choices, book, record);
  const put = (ends: { a?: string; b?: string; on?: string }): void => {
    // What the address says by now: the other end may have been chosen a moment ago, and not be rendered yet.
    const next = new URLSearchParams(window.location.search);
    for (const [name, value] of Object.entries(ends)) {
      if (value) next.set(name, value);
      else next.delete(name);
    }
    setParams(next, { replace: true });
  };
  const known = (value: string): boolean => isEnd(choices, value) && !book.get("outside", value);
  const meant = isMeant(choices, a) && (isMeant(choices, b) || ADDRESS.test(b)) && a !== b;
  const ping = useQuery({
    queryKey: ["ping", id, snapshot.revision, a, b, on],
    enabled: meant,
    // While an edit is asked about, the answer of before stands; that of other ends doesn't.
    placeholderData: (before, query) =>
      query?.queryKey[3] === a && query.queryKey[4] === b && query.queryKey[5] === on ? before : undefined,
    queryFn: async () =>
      unwrap(await api.GET("/api/plans/{plan_id}/ping", { params: { path: { plan_id: id }, query: { a, b, on } } })),
  });
  const trace = useQuery({
    queryKey: ["trace", id, snapshot.revision, a, b],
    enabled: known(a) && known(b) && a !== b,
    queryFn: async () =>
      unwrap(await api.GET("/api/plans/{plan_id}/trace", { params: { path: { plan_id: id }, query: { a, b } } })),
  });
  // What the plan itself says, beside a draft; whoever is new in the draft isn't there.
  const base = useQuery({
    queryKey: ["ping beside", of, id, snapshot.revision, a, b, on],
    enabled: meant && of !== null,
    retry: false,
    queryFn: async () => {
      const path = { path: { plan_id: of! }, query: { a, b, on } };
      const { data } = await api.GET("/api/plans/{plan_id}/ping", { params: path });
      return data ?? null;
    },
  });
  const past = at === undefined ? "" : `&at=${at}`;
  const frames = `/api/plans/${id}/ping-frames?${new URLSearchParams({ a, b, on }).toString()}${past}`;
  return (
    <div className="trace">
      <div className="tools">
        <SearchBox
          label="From"
          value={a}
          said={labelOf(choices, a)}
          width="310px"
          find={find}
          put={(v) => put({ a: v })}
          placeholder="Part of a guest, adapter, station or host"
          empty="Nothing by that name. Any tag may follow, as in host/adapter|210."
        />
        <button
          type="button"
          className="swap"
          title="Exchange the two"
          aria-label="Exchange the two"
          onClick={() => put({ a: b, b: a })}
        >
          <ArrowRightLeft size={15} aria-hidden />
        </button>
        <SearchBox
          label="To"
          value={b}
          said={labelOf(choices, b)}
          width="310px"
          find={findTo}
          put={(v) => put({ b: v })}
          placeholder="Part of a guest, adapter, station or host, or an address"
          empty="Nothing by that name. Any tag may follow, as in host/adapter|210; an address is asked as it is."
        />
        <Service key={on} on={on} put={(value) => put({ on: value })} />
      </div>
      {(trace.error ?? ping.error) && (
        <p role="alert" className="nothing">
          {(trace.error ?? ping.error)!.message}
        </p>
      )}
      {!trace.data && !trace.error && !ping.data && !ping.error && (
        <div className="empty-state">
          <h2>{a && b && a === b ? "Choose two different endpoints" : "Choose two endpoints"}</h2>
          <p>
            A ping is asked from one to the other, over routers too. A frame is followed there and back: every port it
            passes, its tag before and after, the rule that let it pass, and where it is dropped.
          </p>
          {choices.length >= 2 && (
            <p>
              <LinkButton onClick={() => put({ a: choices[0]!.value, b: choices.at(-1)!.value })}>
                {choices[0]!.label} to {choices.at(-1)!.label}, for example
              </LinkButton>
            </p>
          )}
        </div>
      )}
      {(trace.data ?? ping.data) && (
        <div className="traces" role="region" aria-label="What becomes of it" tabIndex={0}>
          {ping.data && <Pinged ping={ping.data} before={base.data ?? null} nameOf={nameOf} frames={frames} />}
          {ping.data?.ways.map((way, n) =>
            way.legs.length > 1 || !trace.data
              ? way.legs.map(
                  (leg, hop) =>
                    leg.trace && (
                      <HopTable
                        key={`${n} ${hop}`}
                        title={`${WAYS[n]}, hop ${hop + 1}: ${nameOf(leg.out)} to ${leg.address}`}
                        trace={leg.trace}
                      />
                    ),
                )
              : null,
          )}
          {trace.data && (
            <>
              <HopTable title={`There: ${labelOf(choices, a)} to ${labelOf(choices, b)}`} trace={trace.data.there} />
              <HopTable title={`Back: ${labelOf(choices, b)} to ${labelOf(choices, a)}`} trace={trace.data.back} />
            </>
          )}
        </div>
      )}
    </div>
  );
}

/** With what it is asked: a ping, or a connection to a port. */
function Service({ on, put }: { on: string; put: (on: string) => void }) {
  const [typed, setTyped] = useState(on);
  const fits = /^$|^(tcp|udp)\/[1-9]\d{0,4}$/.test(typed.trim());
  const take = (): void => {
    if (fits && typed.trim() !== on) put(typed.trim());
  };
  return (
    <Field.Root width="auto" invalid={!fits}>
      <HStack>
        <Field.Label m="0">As</Field.Label>
        <Input
          size="sm"
          width="96px"
          className="mono"
          value={typed}
          placeholder="a ping"
          title="Nothing for a ping, or a connection such as tcp/5432"
          onChange={(event) => setTyped(event.target.value)}
          onBlur={take}
          onKeyDown={(event) => event.key === "Enter" && take()}
        />
      </HStack>
    </Field.Root>
  );
}

/**
 * An endpoint of the list, or one of them with any other tag: frames that nobody is meant to send can be followed
 * too.
 */
function isEnd(choices: Choice[], value: string): boolean {
  const [key, tag] = value.split("|");
  if (choices.some((c) => c.value === value)) return true;
  return (
    tag !== undefined &&
    /^\d{1,4}$/.test(tag) &&
    Number(tag) >= 1 &&
    Number(tag) <= 4094 &&
    choices.some((c) => c.value.split("|")[0] === key)
  );
}

const labelOf = (choices: Choice[], value: string): string => choices.find((c) => c.value === value)?.label ?? value;

/** The choices that match; one of them with another tag, where that was typed. */
function ways(choices: Choice[], typed: string): Choice[] {
  const found = matching(choices, typed);
  if (found.some((c) => c.value === typed) || !isEnd(choices, typed)) return found;
  const [key, tag] = typed.split("|");
  const owner = choices.find((c) => c.value.split("|")[0] === key);
  return [{ value: typed, label: `${owner?.label ?? key} as if tagged ${tag}`, detail: typed, text: typed }, ...found];
}

/** Looks like an IPv4 or IPv6 address. */
const ADDRESS = /^(\d{1,3}(\.\d{1,3}){3}|[0-9a-fA-F:.]*:[0-9a-fA-F:.]*)$/;

/** An endpoint of the list with a tag that it is meant to use: only such have addresses. */
const isMeant = (choices: Choice[], value: string): boolean => choices.some((c) => c.value === value);

function nameIn(choices: Choice[], book: Book, record: string): string {
  const tag = book.get("guest_tag", record);
  const adapter = book.get("adapter", tag?.adapter ?? record);
  const port = book.get("host_port", record);
  const station = book.get("station_port", record);
  if (adapter) {
    const guest = book.get("guest", adapter.guest)?.name ?? "";
    return `${adapter.name} of ${guest}${tag ? ` tag ${tag.vid}` : ""}`;
  }
  if (port) return `${port.name} of ${book.get("host", book.get("virtual_switch", port.switch)?.host)?.name ?? ""}`;
  if (station) return `${book.get("station", station.station)?.name ?? ""}${station.vid ? ` tag ${station.vid}` : ""}`;
  return labelOf(choices, record);
}

const PINGED: Readonly<Record<Ping["outcome"], [string, string]>> = {
  answered: ["answers", "arrives"],
  wavers: ["not in every state", "lost"],
  silent: ["no answer", "lost"],
  unproven: ["not known", "doubtful"],
};

const WAYS = ["The question", "The answer"];

/** So many states in which a ping fares otherwise are told. */
const MOST_TOLD = 8;

/** Whether a ping is answered, why not, and the links that it goes over. */
function Pinged({
  ping,
  before,
  nameOf,
  frames,
}: {
  /** Where its frames are, as a file. */
  frames: string;
  ping: Ping;
  /** What the plan says of which this is a draft. */
  before: Ping | null;
  nameOf: (record: string) => string;
}) {
  const [said, look] = PINGED[ping.outcome];
  return (
    <section className="ping" aria-label="Ping">
      <h2>
        Ping <span className={look}>{said}</span>
      </h2>
      <p className="ping-said">
        {ping.sentence} {ping.size}
      </p>
      {before && (
        <p className="ping-said">
          <b>The plan itself:</b> {before.sentence === ping.sentence ? "the same." : before.sentence}
        </p>
      )}
      {ping.elsewhere.length > 1 && (
        <ul className="ping-states" aria-label="Other states">
          {ping.elsewhere.slice(0, MOST_TOLD).map(({ state, outcome, reason }) => (
            <li key={state}>
              {state}: <b>{PINGED[outcome][0]}</b>
              {reason && `, ${reason}`}
            </li>
          ))}
          {ping.elsewhere.length > MOST_TOLD && <li>and {ping.elsewhere.length - MOST_TOLD} more states</li>}
        </ul>
      )}
      {ping.ways.some((way) => way.legs.some((leg) => leg.trace)) && (
        <Button asChild variant="outline" size="sm">
          <a href={frames} download title="As they would be at every place on their way, for a packet viewer">
            <Download size={14} aria-hidden /> Save the frames (pcapng)
          </a>
        </Button>
      )}
      {ping.ways.map(
        (way, n) => way.legs.length > 0 && <Legs key={n} title={WAYS[n] ?? ""} way={way} nameOf={nameOf} />,
      )}
    </section>
  );
}

/** What whoever sends on by an interface, as the hop of a number, puts in place of the target and the source. */
const changedAt = (way: Way, out: string, hop: number): string[] => [
  ...way.turned.filter(({ after }) => after === hop).map(({ to, port }) => `for ${to}${port ? ` port ${port}` : ""}`),
  ...way.hidden.filter(({ at }) => at === out).map(({ shown }) => `translated to ${shown}`),
];

function Legs({ title, way, nameOf }: { title: string; way: Way; nameOf: (record: string) => string }) {
  return (
    <table className="hop-table">
      <caption>
        {title}, from {way.source || "no address"} to {way.target}
      </caption>
      <thead>
        <tr>
          <th scope="col">Hop</th>
          <th scope="col">Out of</th>
          <th scope="col">Next hop</th>
          <th scope="col">Whose it is</th>
          <th scope="col">Why there</th>
          <th scope="col">Outcome</th>
        </tr>
      </thead>
      <tbody>
        {way.legs.map((leg, n) => (
          <tr
            key={n}
            className={leg.outcome === "answered" ? "" : leg.outcome === "silent" ? "hop-dropped" : "hop-open"}
          >
            <td>{n + 1}</td>
            <td>{nameOf(leg.out)}</td>
            <td className="mono">{leg.address}</td>
            <td>{leg.to ? nameOf(leg.to) : "nobody’s"}</td>
            <td>{[leg.by, ...changedAt(way, leg.out, n)].join(", ")}</td>
            <td>{leg.reason ? <b>{leg.reason}</b> : "passes"}</td>
          </tr>
        ))}
        {way.reason && way.legs.at(-1)?.outcome === "answered" && (
          <tr className={way.outcome === "silent" ? "hop-dropped" : "hop-open"}>
            <td colSpan={6}>
              <b>{way.reason}</b>
            </td>
          </tr>
        )}
      </tbody>
    </table>
  );
}

const SAID: Record<string, string> = {
  passed: "passes",
  dropped: "dropped",
  astray: "wrong VLAN",
  open: "open end",
  "not reached": "not reached",
};

function HopTable({ title, trace }: { title: string; trace: Trace }) {
  return (
    <section>
      <h2>
        {title}{" "}
        <span className={trace.delivered ? "arrives" : "lost"}>
          {trace.delivered ? "arrives" : "does not arrive on layer 2"}
        </span>
      </h2>
      <table className="hop-table">
        <thead>
          <tr>
            <th scope="col">Hop</th>
            <th scope="col">At</th>
            <th scope="col">Tag before</th>
            <th scope="col">Tag after</th>
            <th scope="col">Rule</th>
            <th scope="col">Outcome</th>
          </tr>
        </thead>
        <tbody>
          {trace.hops.map((hop, n) => (
            <tr key={n} className={`hop-${hop.outcome.replace(" ", "-")}`}>
              <td>{n + 1}</td>
              <td>{hop.where}</td>
              <td className="mono">{hop.before}</td>
              <td className="mono">{hop.after}</td>
              <td>{hop.rule}</td>
              <td>{hop.reason ? <b>{hop.reason}</b> : SAID[hop.outcome]}</td>
            </tr>
          ))}
        </tbody>
      </table>
    </section>
  );
}
