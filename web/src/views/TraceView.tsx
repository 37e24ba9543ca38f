import "./tables.css";

import { useQuery } from "@tanstack/react-query";
import { ArrowRightLeft } from "lucide-react";
import { useId, useMemo, useState } from "react";
import { useSearchParams } from "react-router";

import { api, unwrap, type Trace } from "../api/client";
import { usePlan } from "../api/plan";

export function TraceView() {
  const { id, snapshot } = usePlan();
  const [params, setParams] = useSearchParams();
  const a = params.get("a") ?? "";
  const b = params.get("b") ?? "";
  const choices = useMemo(
    () =>
      [...snapshot.endpoints.values()].flatMap((e) =>
        e.tags.map((t) => ({
          value: t.tag === "untagged" ? e.key : `${e.key}|${t.tag}`,
          label: `${e.name}${t.tag === "untagged" ? "" : ` tag ${t.tag}`}`,
        })),
      ),
    [snapshot.endpoints],
  );
  const put = (ends: { a?: string; b?: string }): void =>
    setParams(
      (now) => {
        const next = new URLSearchParams(now);
        for (const [name, value] of Object.entries(ends)) {
          if (value) next.set(name, value);
          else next.delete(name);
        }
        return next;
      },
      { replace: true },
    );
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
        <EndPicker label="From" value={a} choices={choices} put={(v) => put({ a: v })} />
        <button
          type="button"
          className="swap"
          title="Exchange the two"
          aria-label="Exchange the two"
          onClick={() => put({ a: b, b: a })}
        >
          <ArrowRightLeft size={15} aria-hidden />
        </button>
        <EndPicker label="To" value={b} choices={choices} put={(v) => put({ b: v })} />
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
              <button
                type="button"
                className="panel-link"
                onClick={() => put({ a: choices[0]!.value, b: choices.at(-1)!.value })}
              >
                {choices[0]!.label} to {choices.at(-1)!.label}, for example
              </button>
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
function isEnd(choices: { value: string }[], value: string): boolean {
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

const labelOf = (choices: { value: string; label: string }[], value: string): string =>
  choices.find((c) => c.value === value)?.label ?? value;

function EndPicker({
  label,
  value,
  choices,
  put,
}: {
  label: string;
  value: string;
  choices: { value: string; label: string }[];
  put: (v: string) => void;
}) {
  const list = useId();
  const [typed, setTyped] = useState<string | null>(null);
  const text = typed ?? value;
  const wrong = typed !== null && typed !== "" && !isEnd(choices, typed);
  const take = (): void => {
    if (typed === null || wrong) return;
    setTyped(null);
    put(typed);
  };
  return (
    <div className="end-picker">
      <label htmlFor={`${list}-input`}>{label}</label>
      <input
        id={`${list}-input`}
        list={list}
        className="mono"
        placeholder="host/adapter or host/adapter|tag"
        value={text}
        aria-invalid={wrong}
        onChange={(e) => {
          const next = e.target.value;
          setTyped(next);
          if (!next || choices.some((c) => c.value === next)) {
            setTyped(null);
            put(next);
          }
        }}
        onBlur={take}
        onKeyDown={(e) => e.key === "Enter" && take()}
      />
      <datalist id={list}>
        {choices.map((c) => (
          <option key={c.value} value={c.value}>
            {c.label}
          </option>
        ))}
      </datalist>
      {wrong && <em>not the name of an endpoint yet; any tag may follow, as in host/adapter|210</em>}
    </div>
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
