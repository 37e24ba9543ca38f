import type { Kind } from "../api/client";
import type { Book } from "../model/records";

export type Draft = Record<string, unknown>;

/** One field of a form: what it is called, how it is typed, and when it makes sense. */
export interface FieldSpec {
  name: string;
  label: string;
  kind: "vid" | "vids" | "number" | "choice" | "ref" | "flag" | "maybe" | "text" | "list";
  options?: [string, string][];
  hint?: string;
  /** Whether the field makes sense, given the others. */
  when?: (draft: Draft) => boolean;
  /** Shown once somebody asks for more. */
  more?: boolean;
  /** The least VID, 0 where it stands for untagged frames. */
  least?: number;
  /** What an absent value means, as the record's kind says. */
  unless?: unknown;
}

const is = (field: string, ...values: string[]) => (draft: Draft) => values.includes(String(draft[field]));
const choice = (name: string, label: string, options: [string, string][], rest: Partial<FieldSpec> = {}): FieldSpec => ({ name, label, kind: "choice", options, unless: options[0]?.[0], ...rest });
const flag = (name: string, label: string, unless: boolean, rest: Partial<FieldSpec> = {}): FieldSpec => ({ name, label, kind: "flag", unless, ...rest });
const text = (name: string, label: string, rest: Partial<FieldSpec> = {}): FieldSpec => ({ name, label, kind: "text", ...rest });
const list = (name: string, label: string, hint: string, rest: Partial<FieldSpec> = {}): FieldSpec => ({ name, label, kind: "list", hint, ...rest });
const number = (name: string, label: string, hint: string, rest: Partial<FieldSpec> = {}): FieldSpec => ({ name, label, kind: "number", hint, ...rest });
const mtu = number("mtu", "MTU", "bytes, 576 to 9216", { more: true });

export const segmentChoices = (book: Book): [string, string][] => [["", "not said"], ...book.records.segment.map((s): [string, string] => [s.id, `${s.name}${s.vid ? ` ${s.vid}` : s.vni ? ` VNI ${s.vni}` : ""}`])];
const belongs = (book: Book): FieldSpec => ({ name: "belongs", label: "Belongs on", kind: "ref", options: segmentChoices(book) });

const tagging = (modes: string[], native: string): FieldSpec[] => [
  { name: "vid", label: "VID", kind: "vid", when: is("mode", "access", "private") },
  { name: "allowed", label: "Allowed VIDs", kind: "vids", hint: "110, 200-219", when: is("mode", "trunk") },
  { name: "native", label: "Native VLAN", kind: "vid", hint: native, when: is("mode", "trunk"), least: modes.includes("untagged") ? 0 : 1 },
  choice("mode", "Mode", modes.map((m) => [m, m])),
  ...standard(is("mode", "standard")),
  admits(["", "as usual for its mode"]),
  ...apart("flag"),
];

/** A port in the words of IEEE 802.1Q. */
const standard = (when: (draft: Draft) => boolean, more = false): FieldSpec[] => [
  { name: "members", label: "Member VIDs", kind: "vids", hint: "110, 200-219", when, more },
  { name: "untagged", label: "Leave untagged", kind: "vids", hint: "none of them", when, more },
  { name: "pvid", label: "PVID", kind: "vid", hint: "untagged dropped", when, more },
];
const admits = (absent: [string, string]): FieldSpec => choice("admits", "Admits", [absent, ["all", "all frames"], ["untagged", "untagged frames only"], ["tagged", "tagged frames only"]], { unless: null, more: true });
const apart = (kind: "flag" | "maybe"): FieldSpec[] => [
  { name: "isolated", label: "Isolated", kind, unless: kind === "flag" ? false : null, more: true },
  { name: "reflects", label: "Reflects", kind, unless: kind === "flag" ? false : null, more: true },
];

const guards = (kind: "flag" | "maybe"): FieldSpec[] =>
  [
    ["overhear", "Overhear others"],
    ["new_address", "New address"],
    ["foreign_source", "Foreign source"],
    ["serve_leases", "Serve leases"],
    ["advertise_routes", "Advertise routes"],
  ].map(([name, label]) => ({ name: name!, label: label!, kind, unless: kind === "flag" ? false : null, more: true }));

const limits: FieldSpec[] = (["send", "receive"] as const).flatMap((way) => [
  number(`${way}_rate`, `May ${way}`, "kbit/s, no limit", { more: true }),
  number(`${way}_peak`, "… at its peak", "kbit/s", { more: true, when: (d) => Boolean(d[`${way}_rate`]) }),
  number(`${way}_burst`, "… in one burst", "bytes", { more: true, when: (d) => Boolean(d[`${way}_rate`]) }),
]);

export const MODES: [string, string][] = [["standby", "standby: one carries"], ["pinned", "pinned: each adapter to one"], ["hashed", "hashed: each flow to one"], ["lacp", "LACP"]];
const ROLES: [string, string][] = [["active", "active"], ["standby", "standby"], ["excluded", "excluded"]];

/** The fields of a record's form, in the order in which people look for them. */
export function fieldsOf(kind: Kind, book: Book, id?: string): FieldSpec[] {
  const record = id ? book.byId.get(id) : undefined;
  switch (kind) {
    case "segment":
      return [
        text("name", "Name"),
        text("role", "Role", { hint: "management, storage, production" }),
        { name: "vid", label: "VID", kind: "vid", hint: "untagged", when: (d) => !d.vni },
        list("subnets", "Subnets", "10.65.10.0/24"),
        list("gateways", "Gateways", "10.65.10.1"),
        mtu,
        number("vni", "VNI (overlay)", "1 to 16777215", { more: true, when: (d) => !d.vid }),
        choice("encapsulation", "Encapsulation", [["vxlan", "VXLAN"], ["geneve", "Geneve"]], { more: true, when: (d) => Boolean(d.vni) }),
      ];
    case "secondary_vlan":
      return [
        { name: "segment", label: "Primary", kind: "ref", options: book.records.segment.filter((s) => s.vid).map((s) => [s.id, `${s.name} ${s.vid}`]) },
        { name: "vid", label: "VID", kind: "vid" },
        choice("type", "Type", [["isolated", "isolated"], ["community", "community"]]),
        text("name", "Name"),
      ];
    case "separation":
      return [text("a", "Role or segment", { hint: "storage" }), text("b", "And", { hint: "production" }), choice("share", "Never share", [["uplink", "an uplink"], ["nic", "a NIC"], ["switch", "a virtual switch"], ["vid", "a VID"]])];
    case "limits":
      return [
        number("paravirtual_adapters", "Paravirtual adapters", "on a guest, no limit"),
        number("emulated_adapters", "Emulated adapters", "on a guest, no limit"),
        number("direct_adapters", "Direct adapters", "on a guest, no limit"),
        number("port_groups", "Port groups", "on a switch, no limit"),
        number("functions", "Virtual functions", "on a NIC, no limit"),
      ];
    case "assumed_fabric":
      return [text("site", "Site"), { name: "allowed", label: "Carries VIDs", kind: "vids", hint: "110, 200-219" }, { name: "native", label: "Native VLAN", kind: "vid", hint: "untagged dropped" }];
    case "host":
      return [text("name", "Name"), text("site", "Site")];
    case "virtual_switch":
      return [text("name", "Name"), { ...mtu, more: false }, choice("limits", "Can limit", [["both", "both ways"], ["sending", "what adapters send"], ["receiving", "what they receive"], ["none", "nothing"]]), flag("filters", "Filters tags", true, { more: true }), flag("answers", "The host answers", true, { more: true }), { name: "host_untagged", label: "The host hears untagged", kind: "vids", hint: "none", more: true, when: (d) => d.filters !== false }, flag("partial", "Known in part", false, { more: true })];
    case "uplink": {
      const host = book.get("virtual_switch", String(record?.switch ?? ""))?.host ?? "";
      const beside = book.of("virtual_switch", "host", host).filter((s) => s.id !== record?.switch);
      const under = beside.flatMap((s): [string, string][] => [
        ...book.of("uplink", "switch", s.id).map((u): [string, string] => [u.id, `uplink ${u.name} of ${s.name}`]),
        ...book.of("host_port", "switch", s.id).map((p): [string, string] => [p.id, `host port ${p.name} of ${s.name}`]),
      ]);
      const own = (d: Draft): boolean => !d.over;
      return [
        { name: "allowed", label: "Lets through", kind: "vids", hint: "every VID", when: (d) => !d.members },
        { name: "native", label: "Native VLAN", kind: "vid", hint: "untagged stays untagged", when: (d) => !d.members },
        choice("mode", "Mode", MODES, { when: own }),
        choice("detect", "Failure seen by", [["link", "link"], ["probe", "probe"]], { more: true, when: own }),
        flag("fail_back", "Returns", true, { more: true, when: own }),
        flag("announce", "Announces", true, { more: true, when: own }),
        { name: "over", label: "Goes over", kind: "ref", options: [["", "NICs of its own"], ...under], more: !record?.over, when: (d) => Boolean(d.over) || !book.of("nic", "uplink", record?.id ?? "").length },
        { name: "vid", label: "With tag", kind: "vid", hint: "none", more: !record?.over, when: (d) => Boolean(d.over) },
        ...standard((d) => d.allowed == null || d.allowed === "", true),
        admits(["", "all frames"]),
        ...apart("flag"),
        text("name", "Name", { more: true }),
      ];
    }
    case "nic":
      return [
        choice("role", "Part in team", ROLES),
        number("rank", "Place in order", "0 is first", { unless: 0 }),
        choice("link", "Link", [["up", "up"], ["down", "down"]]),
        number("speed", "Speed", "Mbit/s"),
        mtu,
        text("card", "Card", { hint: "card 1", more: true }),
        number("functions", "Virtual functions", "offered", { more: true }),
        flag("wireless", "Wireless", false, { more: true }),
        list("addresses", "Host’s own", "10.64.110.11/24", { more: true }),
        text("name", "Name", { more: true }),
      ];
    case "port_group": {
      const host = book.get("virtual_switch", String(record?.switch ?? ""))?.host ?? "";
      const ports = book.of("virtual_switch", "host", host).flatMap((s) => book.of("host_port", "switch", s.id));
      return [
        ...tagging(["access", "trunk", "untagged", "private", "overlay", "standard"], "0 for untagged"),
        number("vni", "VNI", "1 to 16777215", { when: is("mode", "overlay") }),
        { name: "over", label: "Carried by", kind: "ref", options: [["", "choose a host port"], ...ports.map((p): [string, string] => [p.id, p.name])], when: is("mode", "overlay") },
        text("name", "Name"),
        ...guards("flag"),
        ...limits,
      ];
    }
    case "host_port":
      return [
        { name: "vid", label: "VID", kind: "vid", hint: "untagged" },
        list("addresses", "Addresses", "10.64.110.11/24"),
        list("services", "Services", "management, storage"),
        belongs(book),
        text("gateway", "Gateway", { hint: "as its segment says", more: true, unless: null }),
        mtu,
        flag("connected", "Connected", true),
        text("name", "Name", { more: true }),
      ];
    case "guest":
      return [flag("running", "Running", true), text("name", "Name")];
    case "adapter":
      return [
        belongs(book),
        list("addresses", "Addresses", "10.65.10.11/24"),
        flag("connected", "Connected", true),
        choice("type", "Kind", [["paravirtual", "paravirtual"], ["emulated", "emulated, boots from the network"], ["direct", "direct, past the switch"]], { more: true }),
        text("mac", "MAC", { hint: "02:64:0b:00:00:01", more: true, unless: null }),
        flag("mac_fixed", "MAC is kept", false, { more: true }),
        number("order", "Place in guest", "0 is first", { unless: 0, more: true }),
        text("seen_as", "Guest sees it as", { hint: "ens3", more: true }),
        text("team", "Guest’s own team", { hint: "none", more: true }),
        flag("hot_plug", "Hot-plug", true, { more: true }),
        mtu,
        { name: "function_vid", label: "VID put on", kind: "vid", hint: "none", when: is("type", "direct"), more: true },
        ...[...standard(() => true, true), admits(["", "as its port group"]), ...apart("maybe"), ...guards("maybe")].map((f) => ({ ...f, when: (d: Draft) => d.type !== "direct" })),
        ...limits.map((f) => ({ ...f, when: (d: Draft) => d.type !== "direct" && (f.when?.(d) ?? true) })),
      ];
    case "guest_tag":
      return [{ name: "vid", label: "Tag", kind: "vid" }, belongs(book), list("addresses", "Addresses", "10.65.10.1/24")];
    case "mirror":
      return [choice("direction", "Copies", [["both", "both ways"], ["sent", "what it sends"], ["received", "what it receives"]])];
    case "fabric_switch":
      return [
        { name: "vlans", label: "Defines VIDs", kind: "vids", hint: "all of them" },
        flag("spanning_tree", "Spanning tree", false),
        number("priority", "Priority", "in steps of 4096", { unless: 32768, when: (d) => Boolean(d.spanning_tree) }),
        text("mac", "Bridge address", { hint: "02:64:0c:00:00:01", unless: null, when: (d) => Boolean(d.spanning_tree) }),
        flag("managed", "Managed", true, { more: true }),
        flag("partial", "Known in part", false, { more: true }),
        mtu,
        text("site", "Site", { more: true }),
        text("name", "Name", { more: true }),
      ];
    case "lag":
      return [text("name", "Name"), flag("lacp", "By LACP", true), flag("individual", "Ports stand alone", true)];
    case "fabric_port": {
      const lags = book.of("lag", "switch", String(record?.switch ?? ""));
      return [
        ...tagging(["access", "trunk", "private", "standard"], "untagged dropped"),
        flag("enabled", "Enabled", true),
        { name: "lag", label: "LAG", kind: "ref", options: [["", "none"], ...lags.map((l): [string, string] => [l.id, l.name])], more: !lags.length },
        number("speed", "Speed", "Mbit/s", { more: true }),
        mtu,
        flag("partial", "Known in part", false, { more: true }),
        text("name", "Name", { more: true }),
      ];
    }
    case "station":
      return [text("name", "Name"), flag("routes", "Routes", false)];
    case "station_port":
      return [{ name: "vid", label: "Tag", kind: "vid", hint: "untagged" }, belongs(book), list("addresses", "Addresses", "10.65.10.1/24"), mtu];
    default:
      return [];
  }
}

/** A record's value as a form shows it. */
export function shown(field: FieldSpec, value: unknown): unknown {
  const held = value ?? field.unless;
  if (field.kind === "flag") return Boolean(held);
  if (field.kind === "maybe") return held === null || held === undefined ? "" : String(held);
  if (field.kind === "list") return ((held as string[] | undefined) ?? []).join(", ");
  return held ?? "";
}

/** What was typed as a record keeps it; what is wrong with it goes to `wrong`. */
export function parsed(field: FieldSpec, value: unknown, wrong: string[], before: unknown): unknown {
  if (field.kind === "flag") return Boolean(value);
  const said = String(value ?? "").trim();
  if (field.kind === "maybe") return said === "" ? null : said === "true";
  if (field.kind === "list") return said.split(/[,\s]+/).filter(Boolean);
  if (field.kind === "vid" || field.kind === "number") {
    if (!said) return field.kind === "number" && field.unless !== undefined ? field.unless : null;
    const held = /^\d+$/.test(said) ? Number(said) : NaN;
    if (field.kind === "vid" && !(held >= (field.least ?? 1) && held <= 4094)) wrong.push(`${field.label}: a VID is a number from 1 to 4094`);
    else if (Number.isNaN(held)) wrong.push(`${field.label}: a whole number is needed`);
    return held;
  }
  if (field.kind === "vids") return said || (before === "" ? "" : null);
  if (field.kind === "ref" || field.kind === "choice") return said || null;
  return said || (field.unless === null ? null : "");
}
