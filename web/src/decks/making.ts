import type { Kind, Operation, RecordOf } from "../api/client";
import { compareNames, inSubnet, speed, type Book } from "../model/records";
import type { PatternKind } from "../model/kinds";
import { tagText } from "../model/ports";
import { MADE_OWN, patch, portName, type Proposal } from "./edits";
import type { Draft } from "./fields";

export const put = (kind: Kind, record: Draft): Operation => ({ op: "put", kind, record });
export const drop = (kind: Kind, id: string): Operation => ({ op: "drop", kind, id });

const slug = (text: string): string =>
  text
    .trim()
    .toLowerCase()
    .replaceAll(/[^a-z0-9._-]+/g, "-")
    .replace(/^[-._]+|[-._]+$/g, "") || "x";

/** An id that nothing in the plan (and nothing in the same edit) has. */
export function freshId(book: Book, wanted: string, taken: ReadonlySet<string> = new Set()): string {
  const base = wanted.split("/").map(slug).join("/").slice(0, 110);
  let id = base;
  for (let n = 2; book.byId.has(id) || taken.has(id); n++) id = `${base}-${n}`;
  return id;
}

/** A name that no record of this list has: switch0, switch1, ... */
export function freshName(taken: readonly { name: string }[], stem: string): string {
  const names = new Set(taken.map((r) => r.name));
  let n = 0;
  while (names.has(`${stem}${n}`)) n++;
  return `${stem}${n}`;
}

/** A locally administered MAC address that no adapter has. */
export function freshMac(book: Book): string {
  const taken = new Set([...book.records.adapter, ...book.records.nic].map((r) => r.mac));
  for (;;) {
    const bytes = crypto.getRandomValues(new Uint8Array(5));
    const mac = ["02", ...[...bytes].map((b) => b.toString(16).padStart(2, "0"))].join(":");
    if (!taken.has(mac)) return mac;
  }
}

/** A NIC as the sequence shows it: its speed, link, neighbour, and what takes it from somebody. */
export interface FreeNic {
  nic: RecordOf<"nic">;
  neighbour: string;
  use: string;
  /** What the present holder loses, said before it is taken. */
  loses: string;
}

export function nicsOf(book: Book, host: string): FreeNic[] {
  return book
    .of("nic", "host", host)
    .map((nic) => {
      const uplink = book.get("uplink", nic.uplink);
      const sw = book.get("virtual_switch", uplink?.switch);
      const left = uplink ? book.of("nic", "uplink", uplink.id).filter((n) => n.id !== nic.id) : [];
      const port = book.get("fabric_port", book.far.get(nic.id)?.id);
      return {
        nic,
        neighbour: port
          ? `${portName(book, port.id)}, ${tagText(port)}`
          : book.far.has(nic.id)
            ? portName(book, book.far.get(nic.id)!.id)
            : "nobody knows what is behind it",
        use: sw ? `in ${sw.name}` : nic.addresses?.length ? `the host’s own ${nic.addresses.join(", ")}` : "free",
        loses: sw
          ? left.length
            ? `${sw.name} keeps ${left.map((n) => n.name).join(", ")} only`
            : `${sw.name} loses its only way out`
          : nic.addresses?.length
            ? "the host’s address moves onto a host port of the new switch"
            : "",
      };
    })
    .sort((a, b) => Number(a.use !== "free") - Number(b.use !== "free") || compareNames(a.nic.name, b.nic.name));
}

export const nicText = ({ nic }: FreeNic): string =>
  [
    speed(nic.speed),
    nic.link === "down" ? "no link" : "link up",
    nic.wireless ? "wireless" : "",
    nic.mtu ? `MTU ${nic.mtu}` : "",
  ]
    .filter(Boolean)
    .join(", ");

export interface NewSwitch {
  host: string;
  /** An existing switch to add to, instead of a new one. */
  onto: string | null;
  name: string;
  nics: string[];
  mode: string;
  group: string;
  vid: number | null;
  adapters: string[];
  segment: string | null;
}

/** A switch with its uplink, a port group and the guests on it, as one edit. */
export function newSwitch(book: Book, made: NewSwitch): Operation[] {
  const id = made.onto ?? freshId(book, `${made.host}/${made.name}`);
  const operations: Operation[] = [];
  if (!made.onto) operations.push(put("virtual_switch", { id, host: made.host, name: made.name }));
  if (made.nics.length) {
    const known = made.onto ? book.of("uplink", "switch", made.onto)[0] : undefined;
    const uplink = known?.id ?? freshId(book, `${id}/uplink`);
    if (!known)
      operations.push(
        put("uplink", {
          id: uplink,
          switch: id,
          name: made.nics.length > 1 ? "team0" : (book.get("nic", made.nics[0])?.name ?? "uplink"),
          mode: made.mode,
        }),
      );
    const before = known ? book.of("nic", "uplink", known.id).length : 0;
    made.nics.forEach((nic, n) => {
      const record = book.get("nic", nic)!;
      operations.push(
        ...leaving(book, record),
        patch("nic", nic, {
          uplink,
          rank: before + n,
          role: before + n && made.mode === "standby" ? "standby" : "active",
          addresses: [],
        }),
      );
      if (record.addresses?.length) {
        const port = freshId(book, `${id}/${record.name}-host`);
        const home = book.records.segment.find((s) =>
          record.addresses?.some((a) => s.subnets?.some((net) => inSubnet(a, net))),
        );
        operations.push(
          put("host_port", {
            id: port,
            switch: id,
            name: `${record.name}-host`,
            addresses: record.addresses,
            services: ["management"],
            ...(home ? { belongs: home.id } : {}),
          }),
        );
      }
    });
  }
  if (made.group) {
    const group = freshId(book, `${id}/${made.group}`);
    operations.push(
      put("port_group", {
        id: group,
        switch: id,
        name: made.group,
        ...(made.vid ? { mode: "access", vid: made.vid } : { mode: "untagged" }),
      }),
    );
    for (const adapter of made.adapters) {
      const record = book.get("adapter", adapter)!;
      operations.push(
        patch("adapter", adapter, {
          port_group: group,
          ...(record.belongs || !made.segment ? {} : { belongs: made.segment }),
        }),
      );
    }
  }
  return operations;
}

/** What has to be let go before a NIC can leave its uplink. */
function leaving(book: Book, nic: RecordOf<"nic">): Operation[] {
  const own = book.get("uplink", nic.uplink);
  return [
    ...(own?.carries === nic.id ? [patch("uplink", own.id, { carries: null })] : []),
    ...book.of("group_order", "nic", nic.id).map((o) => drop("group_order", o.id)),
  ];
}

/** The uplinks that a NIC could be a member of: its host's, and none. */
export function uplinksFor(book: Book, nic: RecordOf<"nic">): Proposal[] {
  const host = book.get("host", nic.host)?.name ?? "";
  const own = book.get("uplink", nic.uplink);
  const leave = leaving(book, nic);
  const left = own
    ? book
        .of("nic", "uplink", own.id)
        .filter((n) => n.id !== nic.id)
        .map((n) => n.name)
    : [];
  const loss = own ? `; ${own.name} keeps ${left.join(", ") || "nothing"}` : "";
  const made = book
    .of("virtual_switch", "host", nic.host)
    .flatMap((sw) => book.of("uplink", "switch", sw.id).map((uplink) => ({ sw, uplink })))
    .filter(({ uplink }) => uplink.id !== nic.uplink)
    .map(({ sw, uplink }): Proposal => {
      const rank = Math.max(-1, ...book.of("nic", "uplink", uplink.id).map((n) => n.rank ?? 0)) + 1;
      return {
        key: uplink.id,
        label: `${uplink.name} of ${sw.name}`,
        detail: `${
          book
            .of("nic", "uplink", uplink.id)
            .map((n) => n.name)
            .join(", ") || "no NIC yet"
        }${loss}`,
        message: `Take ${host} ${nic.name} into ${sw.name}`,
        operations: [
          ...leave,
          patch("nic", nic.id, {
            uplink: uplink.id,
            rank,
            role: rank && (uplink.mode ?? "standby") === "standby" ? "standby" : "active",
          }),
        ],
      };
    });
  if (own)
    made.push({
      key: "none",
      label: "no uplink",
      detail: `free for another switch${loss}`,
      message: `Take ${host} ${nic.name} out of ${own.name}`,
      operations: [...leave, patch("nic", nic.id, { uplink: null })],
    });
  return made;
}

/** Operations of which each record has one: the last. */
const once = (operations: Operation[]): Operation[] => [
  ...new Map(operations.map((op) => [op.op === "put" ? op : `${op.kind} ${op.id}`, op])).values(),
];

/** Everything that hangs on a record, dropped with it; adapters and NICs are only let go. */
export function dropWhole(book: Book, kind: Exclude<Kind, PatternKind>, id: string): Operation[] {
  const each = (k: Exclude<Kind, PatternKind>, field: string, of: string): Operation[] =>
    (book.of(k, field, of) as { id: string }[]).flatMap((r) => dropWhole(book, k, r.id));
  const letGo = (k: Kind, field: string): Operation[] =>
    (book.of(k, field, id) as { id: string }[]).map((r) => patch(k, r.id, { [field]: null }));
  const cables = [...book.of("cable", "a", id), ...book.of("cable", "b", id)].map((c) => drop("cable", c.id));
  const nothing = (): Operation[] => [];
  // A kind of which the API speaks can't be missing: what isn't named hangs on nothing.
  const words = (): Operation[] => each("own_word", "about", id);
  // A line that speaks of an interface says nothing without it, and nobody relays, advertises or translates there.
  const filtered = (): Operation[] => [
    ...each("translation", "at", id),
    ...each("inward_translation", "at", id),
    ...each("filter_line", "enters", id),
    ...each("filter_line", "leaves", id),
    ...each("lease_relay", "at", id),
    ...each("advertisement", "at", id),
    ...each("flow", "of", id),
    ...each("flow", "to", id),
  ];
  const stacked = (): Operation[] => [
    ...each("lease_scope", "of", id),
    ...each("filter_line", "of", id),
    ...each("route", "of", id),
  ];
  const before: { [K in Exclude<Kind, PatternKind>]: () => Operation[] } = {
    virtual_switch: () => [
      ...each("port_group", "switch", id),
      ...each("host_port", "switch", id),
      ...each("uplink", "switch", id),
    ],
    uplink: () =>
      [...words(), ...each("uplink", "over", id), ...letGo("nic", "uplink")].concat(
        book
          .of("nic", "uplink", id)
          .flatMap((n) => book.of("group_order", "nic", n.id).map((o) => drop("group_order", o.id))),
      ),
    port_group: () => [
      ...words(),
      ...each("flow", "of", id),
      ...each("group_order", "port_group", id),
      ...letGo("adapter", "port_group"),
    ],
    host_port: () => [...words(), ...filtered(), ...each("port_group", "over", id), ...each("uplink", "over", id)],
    guest: () => [...stacked(), ...each("adapter", "guest", id)],
    adapter: () => [
      ...filtered(),
      ...each("guest_tag", "adapter", id),
      ...each("mirror", "source", id),
      ...each("mirror", "target", id),
    ],
    nic: () => [
      ...each("bmc", "nic", id),
      ...each("group_order", "nic", id),
      ...each("stamp_nic", "nic", id),
      ...letGo("adapter", "function_of"),
      ...letGo("uplink", "carries"),
      ...cables,
    ],
    numa_node: nothing,
    host: () => [
      ...stacked(),
      ...each("numa_node", "host", id),
      ...each("stamp", "host", id),
      ...each("bmc", "host", id),
      ...each("guest", "host", id),
      ...each("virtual_switch", "host", id),
      ...each("nic", "host", id),
    ],
    lag: () => [...letGo("fabric_port", "lag"), ...letGo("lag", "beside")],
    bmc: nothing,
    fabric_port: () => [
      ...each("station_port", "port", id),
      ...each("bmc", "port", id),
      ...each("way_in", "port", id),
      ...cables,
    ],
    // A station within it stands at one of its ports: what hangs on both goes once.
    fabric_switch: () =>
      once([...each("station", "within", id), ...each("lag", "switch", id), ...each("fabric_port", "switch", id)]),
    station: () => [...stacked(), ...each("outside", "at", id), ...each("station_port", "station", id)],
    segment: () => [
      ...each("secondary_vlan", "segment", id),
      ...each("way_in", "segment", id),
      ...each("flow", "of", id),
      ...letGo("host", "boots"),
      ...(["adapter", "host_port", "guest_tag", "station_port", "bmc", "pattern_host_port"] as const).flatMap((k) =>
        letGo(k, "belongs"),
      ),
    ],
    // What it defined stays, as the plan's own.
    source: () => book.of("segment", "source", id).map((s) => patch("segment", s.id, MADE_OWN)),
    secondary_vlan: nothing,
    limits: nothing,
    assumed_fabric: nothing,
    group_order: nothing,
    mirror: nothing,
    guest_tag: filtered,
    cable: nothing,
    station_port: filtered,
    way_in: () => each("outside", "at", id),
    route: nothing,
    filter_line: nothing,
    lease_scope: nothing,
    lease_relay: nothing,
    advertisement: nothing,
    translation: nothing,
    inward_translation: nothing,
    outside: nothing,
    shared_address: nothing,
    flow: nothing,
    stamp: () => [...each("stamp_nic", "stamp", id), ...each("own_word", "stamp", id)],
    stamp_nic: nothing,
    own_word: nothing,
    acceptance: nothing,
    reservation: nothing,
    rule: nothing,
  };
  const operations = [...before[kind](), drop(kind, id)];
  const seen = new Set<string>();
  const dropped = new Set(operations.filter((o) => o.op === "drop").map((o) => o.id));
  // A patch of what goes away anyway is left out, and so is a second drop.
  return operations.filter((o) => {
    if (o.op === "patch") return !dropped.has(o.id);
    const key = `${o.op} ${o.id}`;
    if (seen.has(key)) return false;
    seen.add(key);
    return true;
  });
}
