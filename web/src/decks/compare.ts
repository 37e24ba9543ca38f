import type { Operation, RecordOf } from "../api/client";
import { speed, type Book } from "../model/records";
import { byName, membersOf, reachOf } from "./layout";
import { portFields, portLike, tagText, unusual, uplinkText } from "../model/ports";
import { patch, portName } from "./edits";
import { freshId, put } from "./making";

/** One thing that two parts may differ in; null: not there. */
export interface Aspect {
  what: string;
  left: string | null;
  right: string | null;
  /** What would make the right one as the left one. */
  alike?: Alike;
}

export interface Alike {
  message: string;
  operations: Operation[];
}

/** The same part of two hosts. */
export interface Part {
  kind: "switch" | "uplink" | "port group" | "host port" | "NIC" | "neighbour";
  name: string;
  /** The record on each side, as far as there is one. */
  ids: [string | undefined, string | undefined];
  aspects: Aspect[];
  /** The parts that belong to it. */
  parts: Part[];
}

export const differs = (aspect: Aspect): boolean => aspect.left !== aspect.right;
export const everyAspect = (parts: readonly Part[]): Aspect[] =>
  parts.flatMap((p) => [...p.aspects, ...everyAspect(p.parts)]);

const GUARDS = ["overhear", "new_address", "foreign_source", "serve_leases", "advertise_routes"] as const;
const SHAPES = ["send_rate", "send_peak", "send_burst", "receive_rate", "receive_peak", "receive_burst"] as const;

const mtuText = (record: { mtu?: number | null }): string => (record.mtu ? `MTU ${record.mtu}` : "");
const joined = (...words: (string | false | null | undefined)[]): string => words.filter(Boolean).join(", ");
const nativeText = (record: { native?: number | null }): string => (record.native ? `native ${record.native}` : "");

/** Two hosts part by part, as a frame falls: switches with what is on them, then NICs with their neighbours. */
export function compare(book: Book, left: string, right: string): Part[] {
  const host = book.get("host", right)?.name ?? "";
  return [
    ...pairs(book.of("virtual_switch", "host", left), book.of("virtual_switch", "host", right)).map(([name, x, y]) =>
      switchPart(book, right, host, name, x, y),
    ),
    ...pairs(book.of("nic", "host", left), book.of("nic", "host", right)).map(([name, x, y]) =>
      nicPart(book, name, x, y),
    ),
  ];
}

function pairs<T extends { name: string }>(
  one: readonly T[],
  two: readonly T[],
): [string, T | undefined, T | undefined][] {
  const names = new Set(byName([...one, ...two]).map((r) => r.name));
  return [...names].map((n) => [n, one.find((r) => r.name === n), two.find((r) => r.name === n)]);
}

/**
 * A part of which each side is put in words; where both are there and differ, `change` says what would make
 * them alike.
 */
function aspect<T>(
  what: string,
  x: T | undefined,
  y: T | undefined,
  say: (record: T) => string,
  change?: (x: T, y: T) => Alike | undefined,
): Aspect {
  const [left, right] = [x ? say(x) : null, y ? say(y) : null];
  return { what, left, right, alike: x && y && left !== right ? change?.(x, y) : undefined };
}

function switchPart(
  book: Book,
  right: string,
  host: string,
  name: string,
  x: RecordOf<"virtual_switch"> | undefined,
  y: RecordOf<"virtual_switch"> | undefined,
): Part {
  const own = aspect(
    "reach, MTU",
    x,
    y,
    (s) => joined(reachOf(book, s.id), mtuText(s)),
    (a, b) => ({
      message: `Give ${name} of ${host} MTU ${a.mtu ?? "of no word"}`,
      operations: [patch("virtual_switch", b.id, { mtu: a.mtu ?? null })],
    }),
  );
  // What the reach of a switch is follows from its uplinks and host ports: there is nothing to set.
  if ((x?.mtu ?? null) === (y?.mtu ?? null)) own.alike = undefined;
  if (x && !y)
    own.alike = {
      message: `Make switch ${name} on ${host}`,
      operations: [
        put("virtual_switch", {
          id: freshId(book, `${right}/${name}`),
          host: right,
          name,
          ...(x.mtu ? { mtu: x.mtu } : {}),
        }),
      ],
    };
  const on = <K extends "uplink" | "port_group" | "host_port">(
    kind: K,
    s: RecordOf<"virtual_switch"> | undefined,
  ): RecordOf<K>[] => (s ? book.of(kind, "switch", s.id) : []) as RecordOf<K>[];
  const [u, v] = [on("uplink", x)[0], on("uplink", y)[0]];
  return {
    kind: "switch",
    name,
    ids: [x?.id, y?.id],
    aspects: [own],
    parts: [
      ...pairs(on("port_group", x), on("port_group", y)).map(([group, g, h]) =>
        groupPart(book, right, host, y, group, g, h),
      ),
      ...pairs(on("host_port", x), on("host_port", y)).map(([port, p, q]) => portPart(host, port, p, q)),
      ...(u || v ? [uplinkPart(book, host, name, u, v)] : []),
    ],
  };
}

function uplinkPart(
  book: Book,
  host: string,
  on: string,
  u: RecordOf<"uplink"> | undefined,
  v: RecordOf<"uplink"> | undefined,
): Part {
  const mode = (r: RecordOf<"uplink">): string => r.mode ?? "standby";
  const team = aspect(
    "team",
    u,
    v,
    (r) =>
      `${mode(r)} over ${
        membersOf(book, r)
          .map((n) => n.name)
          .join(", ") || "nothing"
      }`,
    (a, b) =>
      mode(a) === mode(b)
        ? undefined
        : {
            message: `Make the uplink of ${on} on ${host} ${mode(a)}`,
            operations: [patch("uplink", b.id, { mode: mode(a) })],
          },
  );
  const further = [
    aspect(
      "lets through",
      u,
      v,
      (r) => joined(uplinkText(r), nativeText(r), ...unusual(r)),
      (a, b) => ({
        message: `Let the same VIDs through ${on} of ${host}`,
        operations: [patch("uplink", b.id, portFields(a))],
      }),
    ),
    aspect(
      "failover",
      u,
      v,
      (r) =>
        joined(
          `failure seen by ${r.detect ?? "link"}`,
          (r.fail_back ?? true) ? "returns" : "stays",
          (r.announce ?? true) ? "announces" : "doesn’t announce",
        ),
      (a, b) => ({
        message: `Let ${on} of ${host} fail over as on the other`,
        operations: [
          patch("uplink", b.id, {
            detect: a.detect ?? "link",
            fail_back: a.fail_back ?? true,
            announce: a.announce ?? true,
          }),
        ],
      }),
    ),
  ];
  return {
    kind: "uplink",
    name: u?.name ?? v?.name ?? "",
    ids: [u?.id, v?.id],
    aspects: u && v ? [team, ...further] : [team],
    parts: [],
  };
}

function groupPart(
  book: Book,
  right: string,
  host: string,
  there: RecordOf<"virtual_switch"> | undefined,
  name: string,
  g: RecordOf<"port_group"> | undefined,
  h: RecordOf<"port_group"> | undefined,
): Part {
  // An overlay goes over the host port of the same name.
  const carrier = (id: string | null | undefined): string | undefined =>
    book
      .of("virtual_switch", "host", right)
      .flatMap((s) => book.of("host_port", "switch", s.id))
      .find((p) => p.name === book.get("host_port", id)?.name)?.id;
  const over = g?.mode === "overlay" ? carrier(g.over) : null;
  const like = g ? { ...portLike(g), vni: g.vni ?? null, over } : {};
  const same = (
    names: readonly (keyof RecordOf<"port_group">)[],
    from: RecordOf<"port_group">,
  ): Record<string, unknown> =>
    Object.fromEntries(names.map((n) => [n, from[n] ?? (GUARDS.includes(n as never) ? false : null)]));
  const tag = aspect(
    "tag",
    g,
    h,
    (r) => joined(tagText(r), nativeText(r), ...unusual(r)),
    (_, b) => ({
      message: `Tag port group ${name} of ${host} as on the other`,
      operations: [patch("port_group", b.id, like)],
    }),
  );
  if (over === undefined) tag.alike = undefined;
  else if (g && !h && there)
    tag.alike = {
      message: `Make port group ${name} on ${host}`,
      operations: [put("port_group", { id: freshId(book, `${there.id}/${name}`), switch: there.id, name, ...like })],
    };
  const aspects = [tag];
  if (g && h) {
    aspects.push(
      aspect(
        "guards",
        g,
        h,
        (r) =>
          GUARDS.filter((n) => r[n])
            .map((n) => n.replaceAll("_", " "))
            .join(", "),
        (a, b) => ({
          message: `Guard port group ${name} of ${host} as on the other`,
          operations: [patch("port_group", b.id, same(GUARDS, a))],
        }),
      ),
      aspect(
        "limits",
        g,
        h,
        (r) =>
          SHAPES.filter((n) => r[n])
            .map((n) => `${n.replace("_", " ")} ${r[n]}`)
            .join(", "),
        (a, b) => ({
          message: `Limit port group ${name} of ${host} as on the other`,
          operations: [patch("port_group", b.id, same(SHAPES, a))],
        }),
      ),
    );
  }
  return { kind: "port group", name, ids: [g?.id, h?.id], aspects, parts: [] };
}

function portPart(
  host: string,
  name: string,
  p: RecordOf<"host_port"> | undefined,
  q: RecordOf<"host_port"> | undefined,
): Part {
  const say = (r: RecordOf<"host_port">): string =>
    joined(r.vid ? String(r.vid) : "untagged", r.services?.join(", "), mtuText(r));
  return {
    kind: "host port",
    name,
    ids: [p?.id, q?.id],
    aspects: [
      aspect("tag, services", p, q, say, (a, b) => ({
        message: `Tag host port ${name} of ${host} ${a.vid ?? "not at all"}`,
        operations: [patch("host_port", b.id, { vid: a.vid ?? null, services: a.services ?? [], mtu: a.mtu ?? null })],
      })),
    ],
    parts: [],
  };
}

function nicPart(book: Book, name: string, x: RecordOf<"nic"> | undefined, y: RecordOf<"nic"> | undefined): Part {
  const [p, q] = [x, y].map((n) => book.get("fabric_port", n ? book.far.get(n.id)?.id : undefined));
  const user = (n: RecordOf<"nic">): string =>
    book.get("virtual_switch", book.get("uplink", n.uplink)?.switch)?.name ??
    (n.addresses?.length ? "the host itself" : "nobody");
  const carries = aspect(
    "carries",
    p,
    q,
    (r) => joined(tagText(r), nativeText(r), ...unusual(r), r.enabled === false && "disabled"),
    (a, b) => ({
      message: `Set ${portName(book, b.id)} up as ${portName(book, a.id)}`,
      operations: [patch("fabric_port", b.id, { ...portLike(a), enabled: a.enabled ?? true })],
    }),
  );
  return {
    kind: "NIC",
    name,
    ids: [x?.id, y?.id],
    aspects: [
      aspect("speed, link", x, y, (n) =>
        joined(speed(n.speed) || "speed unknown", n.link === "down" && "no link", mtuText(n)),
      ),
      aspect("used by", x, y, user),
    ],
    parts: p || q ? [{ kind: "neighbour", name: "", ids: [p?.id, q?.id], aspects: [carries], parts: [] }] : [],
  };
}
