import { useMemo, useState } from "react";

import type { Operation, RecordOf } from "../api/client";
import { usePlan } from "../api/plan";
import { compareNames, speed, type Book } from "../model/records";
import { isWorse, sayMoves } from "../model/verdicts";
import { patch, portName, tagText } from "./edits";
import { hostsInOrder, membersOf, reachOf } from "./layout";
import { freshId, put } from "./making";
import { usePreviews } from "./Panel";

interface Row {
  part: string;
  name: string;
  what: string;
  left: string;
  right: string;
  /** What would make the right one as the left one. */
  alike?: { message: string; operations: Operation[] };
}

const MISSING = "not there";

/** Two hosts side by side, their differences lined up, the neighbour of each NIC included. */
export function Beside({ left, right, choose, close }: { left: string; right: string; choose: (left: string, right: string) => void; close: () => void }) {
  const { book, edit, busy } = usePlan();
  const [all, setAll] = useState(false);
  const rows = useMemo(() => compare(book, left, right), [book, left, right]);
  const differing = rows.filter((r) => r.left !== r.right);
  const shown = all ? rows : differing;
  const mendable = shown.filter((r) => r.alike).slice(0, 60);
  const edits = mendable.map((r) => r.alike!.operations);
  const { results } = usePreviews(edits, edits.length > 0);
  const hosts = hostsInOrder(book);
  const nameOf = (id: string): string => book.get("host", id)?.name ?? "";
  return (
    <div className="beside" role="region" aria-label="Two hosts side by side">
      <div className="beside-bar">
        {([[left, "Left host"], [right, "Right host"]] as const).map(([id, label], n) => (
          <label key={label}>
            <span className="visually-hidden">{label}</span>
            <select value={id} onChange={(e) => choose(n ? left : e.target.value, n ? e.target.value : right)}>
              {hosts.map((h) => (
                <option key={h.id} value={h.id}>
                  {h.name}
                </option>
              ))}
            </select>
          </label>
        ))}
        <span>{differing.length ? `${differing.length} differences` : "No difference"}</span>
        <label className="check">
          <input type="checkbox" checked={all} onChange={(e) => setAll(e.target.checked)} /> show what is the same too
        </label>
        <span className="spring" />
        <button type="button" className="panel-link" onClick={close}>
          Back to the drawing
        </button>
      </div>
      <div className="beside-scroll">
        <table>
          <thead>
            <tr>
              <th scope="col">Part</th>
              <th scope="col">What</th>
              <th scope="col">{nameOf(left)}</th>
              <th scope="col">{nameOf(right)}</th>
              <th scope="col">Make {nameOf(right)} alike</th>
            </tr>
          </thead>
          <tbody>
            {shown.map((row) => {
              const result = row.alike ? results?.[mendable.indexOf(row)] : undefined;
              return (
                <tr key={`${row.part} ${row.name} ${row.what}`} className={row.left === row.right ? "" : "differs"}>
                  <th scope="row">
                    {row.part} <b>{row.name}</b>
                  </th>
                  <td>{row.what}</td>
                  <td className="mono">{row.left}</td>
                  <td className="mono">{row.right}</td>
                  <td>
                    {row.alike && (
                      <button type="button" className="panel-link" disabled={busy || !!result?.problems.length} onClick={() => void edit(row.alike!.message, row.alike!.operations)} aria-label={row.alike.message}>
                        as {nameOf(left)}
                      </button>
                    )}
                    {row.alike && <span className={result?.moves.some(isWorse) ? "beside-worse" : "beside-moves"}>{result?.problems.length ? result.problems[0]!.message : result ? sayMoves(result.tally) : "…"}</span>}
                  </td>
                </tr>
              );
            })}
          </tbody>
        </table>
        {!shown.length && <p className="quiet">Switches, uplinks, port groups, host ports, NICs and their neighbours are the same.</p>}
      </div>
    </div>
  );
}

function compare(book: Book, a: string, b: string): Row[] {
  const rows: Row[] = [];
  const pair = <T extends { name: string }>(one: T[], two: T[]): [string, T | undefined, T | undefined][] => {
    const names = [...new Set([...one, ...two].map((r) => r.name))].sort(compareNames);
    return names.map((n) => [n, one.find((r) => r.name === n), two.find((r) => r.name === n)]);
  };
  const host = book.get("host", b)?.name ?? "";
  const line = <T,>(part: string, name: string, what: string, x: T | undefined, y: T | undefined, say: (r: T) => string, alike?: Row["alike"]): void => {
    const [left, right] = [x ? say(x) : MISSING, y ? say(y) : MISSING];
    rows.push({ part, name, what, left, right, alike: left === right ? undefined : alike });
  };
  // An overlay goes over the host port of the same name.
  const carrier = (id: string | null | undefined): string | undefined => switches(b).flatMap((s) => book.of("host_port", "switch", s.id)).find((p) => p.name === book.get("host_port", id)?.name)?.id;
  const switches = (id: string): RecordOf<"virtual_switch">[] => book.of("virtual_switch", "host", id);
  for (const [name, x, y] of pair(switches(a), switches(b))) {
    line("switch", name, "reach, MTU", x, y, (s) => `${reachOf(book, s.id)}${s.mtu ? `, ${s.mtu}` : ""}`, x && !y ? { message: `Make switch ${name} on ${host}`, operations: [put("virtual_switch", { id: freshId(book, `${b}/${name}`), host: b, name, ...(x.mtu ? { mtu: x.mtu } : {}) })] } : x && y && x.mtu !== y.mtu ? { message: `Give ${name} of ${host} MTU ${x.mtu ?? "of no word"}`, operations: [patch("virtual_switch", y.id, { mtu: x.mtu ?? null })] } : undefined);
    const [u, v] = [x, y].map((s) => (s ? book.of("uplink", "switch", s.id)[0] : undefined));
    if (u || v) {
      line("switch", name, "uplink", u, v, (r) => `${r.mode ?? "standby"} over ${membersOf(book, r).map((n) => n.name).join(", ") || "nothing"}`, u && v && (u.mode ?? "standby") !== (v.mode ?? "standby") ? { message: `Make the uplink of ${name} on ${host} ${u.mode ?? "standby"}`, operations: [patch("uplink", v.id, { mode: u.mode ?? "standby" })] } : undefined);
      line("switch", name, "lets through", u, v, (r) => `${r.allowed ?? "all"}${r.native ? `, native ${r.native}` : ""}`, u && v ? { message: `Let the same VIDs through ${name} of ${host}`, operations: [patch("uplink", v.id, { allowed: u.allowed ?? null, native: u.native ?? null })] } : undefined);
    }
    const groups = (s: typeof x): RecordOf<"port_group">[] => (s ? book.of("port_group", "switch", s.id) : []);
    for (const [group, g, h] of pair(groups(x), groups(y))) {
      const over = g?.mode === "overlay" ? carrier(g.over) : null;
      const like = g ? { mode: g.mode, vid: g.vid ?? null, allowed: g.allowed ?? null, native: g.native ?? null, vni: g.vni ?? null, over } : {};
      line("port group", group, `on ${name}`, g, h, tagText, g && over !== undefined ? (h ? { message: `Tag port group ${group} of ${host} as on the other`, operations: [patch("port_group", h.id, like)] } : y ? { message: `Make port group ${group} on ${host}`, operations: [put("port_group", { id: freshId(book, `${y.id}/${group}`), switch: y.id, name: group, ...like })] } : undefined) : undefined);
    }
    const ports = (s: typeof x): RecordOf<"host_port">[] => (s ? book.of("host_port", "switch", s.id) : []);
    for (const [port, p, q] of pair(ports(x), ports(y))) {
      line("host port", port, `on ${name}`, p, q, (r) => `${r.vid ?? "untagged"}${r.services?.length ? ` ${r.services.join(", ")}` : ""}${r.mtu ? ` MTU ${r.mtu}` : ""}`, p && q ? { message: `Tag host port ${port} of ${host} ${p.vid ?? "not at all"}`, operations: [patch("host_port", q.id, { vid: p.vid ?? null, services: p.services ?? [], mtu: p.mtu ?? null })] } : undefined);
    }
  }
  for (const [name, x, y] of pair(book.of("nic", "host", a), book.of("nic", "host", b))) {
    line("NIC", name, "speed, link", x, y, (n) => `${speed(n.speed) || "?"} ${n.link ?? "up"}${n.mtu ? ` MTU ${n.mtu}` : ""}`);
    line("NIC", name, "used by", x, y, (n) => book.get("virtual_switch", book.get("uplink", n.uplink)?.switch)?.name ?? "nobody");
    const [p, q] = [x, y].map((n) => book.get("fabric_port", n ? book.far.get(n.id)?.id : undefined));
    line("NIC", name, "neighbour carries", p, q, (r) => `${tagText(r)}${r.native ? `, native ${r.native}` : ""}`, p && q ? { message: `Set ${portName(book, q.id)} up as ${portName(book, p.id)}`, operations: [patch("fabric_port", q.id, { mode: p.mode, vid: p.vid ?? null, allowed: p.allowed ?? null, native: p.native ?? null })] } : undefined);
    if (p || q) rows.at(-1)!.what += ` (${p ? portName(book, p.id) : "none"}; ${q ? portName(book, q.id) : "none"})`;
  }
  return rows;
}
