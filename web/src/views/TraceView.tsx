import "./tables.css";
import { LinkButton } from "../parts/controls";

import { useQuery } from "@tanstack/react-query";
import { ArrowRightLeft } from "lucide-react";
import { useCallback, useMemo } from "react";
import { useSearchParams } from "react-router";

import { api, unwrap, type Endpoint, type Trace } from "../api/client";
import { usePlan } from "../api/plan";
import type { Book } from "../model/records";
import { matching, SearchBox, type Choice } from "../parts/SearchBox";

/**
 * Everything from which a frame can start: endpoints, and the interfaces of stations, each with the tag that it
 * sends.
 */
function ends(book: Book, endpoints: ReadonlyMap<string, Endpoint>): Choice[] {
  const made: Choice[] = [];
  const add = (value: string, name: string, tag: string, more: string): void => {
    const label = tag === "untagged" ? name : `${name} tag ${tag}`;
    made.push({ value, label, detail: value, text: `${label} ${value} ${more}`.toLowerCase() });
  };
  for (const e of endpoints.values())
    for (const t of e.tags)
      add(t.tag === "untagged" ? e.key : `${e.key}|${t.tag}`, e.name, t.tag, t.addresses.join(" "));
  for (const port of book.records.station_port) {
    const name = book.get("station", port.station)?.name ?? "";
    add(port.id, name, port.vid ? String(port.vid) : "untagged", `station ${(port.addresses ?? []).join(" ")}`);
  }
  return made;
}

export function TraceView() {
  const { id, snapshot, book } = usePlan();
  const [params, setParams] = useSearchParams();
  const a = params.get("a") ?? "";
  const b = params.get("b") ?? "";
  const choices = useMemo(() => ends(book, snapshot.endpoints), [book, snapshot.endpoints]);
  const find = useCallback((typed: string) => ways(choices, typed), [choices]);
  const put = (ends: { a?: string; b?: string }): void => {
    // What the address says by now: the other end may have been chosen a moment ago, and not be rendered yet.
    const next = new URLSearchParams(window.location.search);
    for (const [name, value] of Object.entries(ends)) {
      if (value) next.set(name, value);
      else next.delete(name);
    }
    setParams(next, { replace: true });
  };
  const known = (value: string): boolean => isEnd(choices, value);
  const trace = useQuery({
    queryKey: ["trace", id, snapshot.revision, a, b],
    enabled: known(a) && known(b) && a !== b,
    queryFn: async () =>
      unwrap(await api.GET("/api/plans/{plan_id}/trace", { params: { path: { plan_id: id }, query: { a, b } } })),
  });
  return (
    <div className="trace">
      <div className="tools">
        <SearchBox
          label="From"
          value={a}
          said={labelOf(choices, a)}
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
          find={find}
          put={(v) => put({ b: v })}
          placeholder="Part of a guest, adapter, station or host"
          empty="Nothing by that name. Any tag may follow, as in host/adapter|210."
        />
      </div>
      {trace.error && (
        <p role="alert" className="nothing">
          {trace.error.message}
        </p>
      )}
      {!trace.data && !trace.error && (
        <div className="empty-state">
          <h2>{a && b && a === b ? "Choose two different endpoints" : "Choose two endpoints"}</h2>
          <p>
            A frame is followed from one to the other and back: every port it passes, its tag before and after, the rule
            that let it pass, and where it is dropped.
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
      {trace.data && (
        <div className="traces">
          <HopTable title={`There: ${labelOf(choices, a)} to ${labelOf(choices, b)}`} trace={trace.data.there} />
          <HopTable title={`Back: ${labelOf(choices, b)} to ${labelOf(choices, a)}`} trace={trace.data.back} />
        </div>
      )}
    </div>
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
