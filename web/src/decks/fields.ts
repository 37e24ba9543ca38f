import type { Kind, RecordOf } from "../api/client";
import { SPECS } from "../api/kinds";
import { tagText } from "../model/ports";
import { compareNames, DEFINED, type Book } from "../model/records";
import { portName, sameSite, standingAt } from "./edits";

export type Draft = Record<string, unknown>;

/** One field of a form: what it is called, how it is typed, and when it makes sense. */
export interface FieldSpec<N extends string = string> {
  name: N;
  label: string;
  kind: "vid" | "vids" | "number" | "choice" | "ref" | "flag" | "maybe" | "text" | "list";
  options?: [string, string][];
  /**
   * Words for the options that the API's document lists; those without stand for themselves.
   * `absent`: for saying none of them.
   */
  words?: Record<string, string>;
  absent?: string;
  hint?: string;
  /** Whether the field makes sense, given the others. */
  when?: (draft: Draft) => boolean;
  /** Shown once somebody asks for more. */
  more?: boolean;
  /** The least and the most of a number, as the API's document says. */
  least?: number;
  most?: number;
  /** What parts the values of a list; absent: commas and blanks. */
  parted?: string;
  /** What an absent value means, as the API's document says. */
  unless?: unknown;
}

type Rest<N extends string> = Partial<Omit<FieldSpec<N>, "name" | "label" | "kind">>;
type Said = { options?: readonly (string | null)[]; least?: number; most?: number; unless?: unknown };

const is =
  (field: string, ...values: string[]) =>
  (draft: Draft) =>
    values.includes(String(draft[field]));
const choice = <N extends string>(
  name: N,
  label: string,
  words: Record<string, string> = {},
  rest: Rest<N> = {},
): FieldSpec<N> => ({ name, label, kind: "choice", words, ...rest });
const flag = <N extends string>(name: N, label: string, rest: Rest<N> = {}): FieldSpec<N> => ({
  name,
  label,
  kind: "flag",
  ...rest,
});
const text = <N extends string>(name: N, label: string, rest: Rest<N> = {}): FieldSpec<N> => ({
  name,
  label,
  kind: "text",
  ...rest,
});
const list = <N extends string>(name: N, label: string, hint: string, rest: Rest<N> = {}): FieldSpec<N> => ({
  name,
  label,
  kind: "list",
  hint,
  ...rest,
});
const number = <N extends string>(name: N, label: string, hint: string, rest: Rest<N> = {}): FieldSpec<N> => ({
  name,
  label,
  kind: "number",
  hint,
  ...rest,
});
const vid = <N extends string>(name: N, label: string, hint?: string, rest: Rest<N> = {}): FieldSpec<N> => ({
  name,
  label,
  kind: "vid",
  hint,
  ...rest,
});
const vids = <N extends string>(name: N, label: string, hint: string, rest: Rest<N> = {}): FieldSpec<N> => ({
  name,
  label,
  kind: "vids",
  hint,
  ...rest,
});
const ref = <N extends string>(
  name: N,
  label: string,
  options: [string, string][],
  rest: Rest<N> = {},
): FieldSpec<N> => ({ name, label, kind: "ref", options, ...rest });
const mtu = number("mtu", "MTU", "bytes", { more: true });

export const segmentChoices = (book: Book): [string, string][] => [
  ["", "not said"],
  ...book.records.segment.map((s): [string, string] => [
    s.id,
    `${s.name}${s.vid ? ` ${s.vid}` : s.vni ? ` VNI ${s.vni}` : ""}`,
  ]),
];
const belongs = (book: Book): FieldSpec<"belongs"> => ref("belongs", "Belongs on", segmentChoices(book));

type Tagging = "vid" | "allowed" | "native" | "mode" | Standard | "admits" | Apart;
const tagging = (native: string): FieldSpec<Tagging>[] => [
  vid("vid", "VID", undefined, { when: is("mode", "access", "private") }),
  vids("allowed", "Allowed VIDs", "110, 200-219", { when: is("mode", "trunk") }),
  vid("native", "Native VLAN", native, { when: is("mode", "trunk") }),
  choice("mode", "Mode"),
  ...standard(is("mode", "standard")),
  admits("as usual for its mode"),
  ...apart("flag"),
];

/** A port in the words of IEEE 802.1Q. */
type Standard = "members" | "untagged" | "pvid";
const standard = (when: (draft: Draft) => boolean, more = false): FieldSpec<Standard>[] => [
  vids("members", "Member VIDs", "110, 200-219", { when, more }),
  vids("untagged", "Leave untagged", "none of them", { when, more }),
  vid("pvid", "PVID", "untagged dropped", { when, more }),
];
const admits = (absent: string): FieldSpec<"admits"> =>
  choice(
    "admits",
    "Admits",
    { all: "all frames", untagged: "untagged frames only", tagged: "tagged frames only" },
    { absent, more: true },
  );
type Apart = "isolated" | "reflects";
const apart = (kind: "flag" | "maybe"): FieldSpec<Apart>[] => [
  { name: "isolated", label: "Isolated", kind, more: true },
  { name: "reflects", label: "Reflects", kind, more: true },
];

const GUARDS = {
  overhear: "Overhear others",
  new_address: "New address",
  foreign_source: "Foreign source",
  serve_leases: "Serve leases",
  advertise_routes: "Advertise routes",
} as const;
type Guard = keyof typeof GUARDS;
const guards = (kind: "flag" | "maybe"): FieldSpec<Guard>[] =>
  (Object.entries(GUARDS) as [Guard, string][]).map(([name, label]) => ({ name, label, kind, more: true }));

type Limit = `${"send" | "receive"}_${"rate" | "peak" | "burst"}`;
const limits: FieldSpec<Limit>[] = (["send", "receive"] as const).flatMap((way): FieldSpec<Limit>[] => [
  number(`${way}_rate`, `May ${way}`, "kbit/s, no limit", { more: true }),
  number(`${way}_peak`, "… at its peak", "kbit/s", { more: true, when: (d) => Boolean(d[`${way}_rate`]) }),
  number(`${way}_burst`, "… in one burst", "bytes", { more: true, when: (d) => Boolean(d[`${way}_rate`]) }),
]);

const MODE_WORDS = {
  standby: "standby: one carries",
  pinned: "pinned: each adapter to one",
  hashed: "hashed: each flow to one",
  lacp: "LACP",
};
export const MODES: [string, string][] = SPECS.uplink.mode.options.map((mode) => [mode, MODE_WORDS[mode]]);

type OfSwitch = "name" | "mtu" | "limits" | "filters" | "answers" | "host_untagged" | "returning";
const switchFields: FieldSpec<OfSwitch>[] = [
  text("name", "Name"),
  { ...mtu, more: false },
  choice("limits", "Can limit", {
    both: "both ways",
    sending: "what adapters send",
    receiving: "what they receive",
    none: "nothing",
  }),
  flag("filters", "Filters tags", { more: true }),
  flag("answers", "The host answers", { more: true }),
  choice(
    "returning",
    "Its own, reflected",
    { learned: "as any other frame", dropped: "dropped", taken: "taken (VEPA)" },
    { more: true },
  ),
  vids("host_untagged", "The host hears untagged", "none", { more: true, when: (d) => d.filters !== false }),
];

type OfUplink = "allowed" | "native" | "mode" | "detect" | "fail_back" | "announce" | "over" | "vid" | "name";

/** An uplink's, which may go over some others unless it has NICs of its own. */
function uplinkFields(
  under: [string, string][],
  over: string | null | undefined,
  hasNics: boolean,
): FieldSpec<OfUplink | Standard | Apart | "admits">[] {
  const own = (d: Draft): boolean => !d.over;
  return [
    vids("allowed", "Lets through", "every VID", { when: (d) => !d.members }),
    vid("native", "Native VLAN", "untagged stays untagged", { when: (d) => !d.members }),
    choice("mode", "Mode", MODE_WORDS, { when: own }),
    choice("detect", "Failure seen by", {}, { more: true, when: own }),
    flag("fail_back", "Returns", { more: true, when: own }),
    flag("announce", "Announces", { more: true, when: own }),
    ref("over", "Goes over", [["", "NICs of its own"], ...under], {
      more: !over,
      when: (d) => Boolean(d.over) || !hasNics,
    }),
    vid("vid", "With tag", "none", { more: !over, when: (d) => Boolean(d.over) }),
    ...standard((d) => d.allowed == null || d.allowed === "", true),
    admits("all frames"),
    ...apart("flag"),
    text("name", "Name", { more: true }),
  ];
}

/** A port group's; `ports` may carry an overlay. */
const groupFields = (ports: { id: string; name: string }[]): FieldSpec<OfGroup>[] => [
  ...tagging("0 for untagged"),
  number("vni", "VNI", "", { when: is("mode", "overlay") }),
  ref("over", "Carried by", [["", "choose a host port"], ...ports.map((p): [string, string] => [p.id, p.name])], {
    when: is("mode", "overlay"),
  }),
  text("name", "Name"),
  ...guards("flag"),
  ...limits,
];
type OfGroup = Tagging | "vni" | "over" | "name" | Guard | Limit;

/** What becomes of questions for leases that a switch has marked. */
const MARKED = { taken: "taken", dropped: "dropped" };

/** How an interface gets its address, and what it has of its own. */
const addressed = (label: string, hint: string): FieldSpec<"addressing" | "addressing6" | "addresses">[] => [
  choice("addressing", "Address", { static: "its own", lease: "by lease", none: "none" }, { more: true }),
  choice(
    "addressing6",
    "IPv6 address",
    { static: "its own", advertised: "of what is advertised", lease: "by lease" },
    { more: true },
  ),
  list("addresses", label, hint, { when: (d) => d.addressing !== "none" }),
];

/** Whether an interface of whoever forwards answers for addresses that it sends on elsewhere. */
const forOthers = flag("proxy_arp", "Proxy ARP", { more: true });

const portFields = (book: Book, addresses: string) => [
  vid("vid", "VID", "untagged"),
  ...addressed(addresses, "10.64.110.11/24"),
  list("services", "Services", "management, storage"),
  belongs(book),
  text("gateway", "Gateway", { hint: "as its segment says", more: true, unless: null }),
  mtu,
  flag("connected", "Connected"),
  forOthers,
  text("name", "Name", { more: true }),
];

/** The uplinks of a pattern, and none. */
export const patternUplinks = (book: Book, pattern: string): [string, string][] => [
  ["", "none"],
  ...book
    .of("pattern_switch", "pattern", pattern)
    .flatMap((s) =>
      book.of("pattern_uplink", "switch", s.id).map((u): [string, string] => [u.id, `${u.name} of ${s.name}`]),
    ),
];

/** The pattern’s other switches and what is on them. */
function besideInPattern(book: Book, part: string | undefined): RecordOf<"pattern_switch">[] {
  const own = book.get("pattern_switch", part);
  return own ? book.of("pattern_switch", "pattern", own.pattern) : [];
}

type Fields = { [K in Kind]: (book: Book, record?: RecordOf<K>) => FieldSpec<keyof RecordOf<K> & string>[] };

/**
 * The fields of each kind's form, in the order in which people look for them; a kind of which the API speaks can't
 * be missing.
 */
const FIELDS: Fields = {
  segment: (_, segment) => {
    const fields: FieldSpec<keyof RecordOf<"segment"> & string>[] = [
      text("name", "Name"),
      text("role", "Role", { hint: "management, storage, production" }),
      vid("vid", "VID", "untagged", { when: (d) => !d.vni }),
      list("subnets", "Subnets", "10.65.10.0/24"),
      list("gateways", "Gateways", "10.65.10.1"),
      list("lease_servers", "Lease servers", "10.65.10.2", { more: true }),
      list("ranges", "Ranges", "static 10.65.10.10-10.65.10.99", { parted: ",", more: true }),
      mtu,
      number("vni", "VNI (overlay)", "none", { more: true, when: (d) => !d.vid }),
      choice(
        "encapsulation",
        "Encapsulation",
        { vxlan: "VXLAN", geneve: "Geneve" },
        { more: true, when: (d) => Boolean(d.vni) },
      ),
    ];
    // What a source says is that system's to change.
    return segment?.source ? fields.filter(({ name }) => !DEFINED.includes(name)) : fields;
  },
  source: () => [
    text("name", "Name"),
    text("address", "Address", { hint: "https://…/restconf/data/ietf-network:networks" }),
    choice("takes", "Takes", { all: "all that it defines", chosen: "what somebody picks" }),
  ],
  secondary_vlan: (book) => [
    ref(
      "segment",
      "Primary",
      book.records.segment.filter((s) => s.vid).map((s) => [s.id, `${s.name} ${s.vid}`]),
    ),
    vid("vid", "VID"),
    choice("type", "Type"),
    text("name", "Name"),
  ],
  limits: () => [
    number("paravirtual_adapters", "Paravirtual adapters", "on a guest, no limit"),
    number("emulated_adapters", "Emulated adapters", "on a guest, no limit"),
    number("direct_adapters", "Direct adapters", "on a guest, no limit"),
    number("port_groups", "Port groups", "on a switch, no limit"),
    number("functions", "Virtual functions", "on a NIC, no limit"),
  ],
  assumed_fabric: () => [
    text("site", "Site"),
    vids("allowed", "Carries VIDs", "110, 200-219"),
    vid("native", "Native VLAN", "untagged dropped"),
  ],
  host: (book) => [
    text("name", "Name"),
    text("site", "Site"),
    flag("routes", "Forwards", { more: true }),
    ref("boots", "Starts over", bootChoices(book), { more: true }),
  ],
  bmc: (book, record) => [
    ref("port", "Its own port", ownPorts(book, record?.host ?? "", record?.port ?? "")),
    ref("nic", "Or shares NIC", [
      ["", "none"],
      ...book.of("nic", "host", record?.host ?? "").map((n): [string, string] => [n.id, n.name]),
    ]),
    vid("vid", "Tag", "untagged"),
    belongs(book),
    list("addresses", "Addresses", "10.64.110.61/24"),
  ],
  virtual_switch: () => [...switchFields, flag("partial", "Known in part", { more: true })],
  uplink: (book, record) => {
    const host = book.get("virtual_switch", record?.switch ?? "")?.host ?? "";
    const beside = book.of("virtual_switch", "host", host).filter((s) => s.id !== record?.switch);
    const under = beside.flatMap((s): [string, string][] => [
      ...book.of("uplink", "switch", s.id).map((u): [string, string] => [u.id, `uplink ${u.name} of ${s.name}`]),
      ...book.of("host_port", "switch", s.id).map((p): [string, string] => [p.id, `host port ${p.name} of ${s.name}`]),
    ]);
    return uplinkFields(under, record?.over, book.of("nic", "uplink", record?.id ?? "").length > 0);
  },
  nic: () => [
    choice("role", "Part in team"),
    number("rank", "Place in order", "0 is first"),
    choice("link", "Link"),
    number("speed", "Speed", "Mbit/s"),
    mtu,
    text("card", "Card", { hint: "card 1", more: true }),
    number("functions", "Virtual functions", "offered", { more: true }),
    flag("wireless", "Wireless", { more: true }),
    number("numa", "NUMA node", "not known", { more: true }),
    number("most_queues", "Most queues", "not known", { more: true }),
    number("queues", "Queues", "as they come", { more: true }),
    text("cores", "Served by", { hint: "processors 2-5", more: true, unless: null }),
    list("addresses", "Host’s own", "10.64.110.11/24", { more: true }),
    text("name", "Name", { more: true }),
  ],
  numa_node: () => [
    number("number", "Number", "0"),
    number("socket", "Socket", "0"),
    text("cores", "Cores", { hint: "0+16, 1+17" }),
    text("offline", "Switched off", { hint: "none", unless: null }),
  ],
  port_group: (book, record) => {
    const host = book.get("virtual_switch", record?.switch ?? "")?.host ?? "";
    return groupFields(book.of("virtual_switch", "host", host).flatMap((s) => book.of("host_port", "switch", s.id)));
  },
  host_port: (book) => portFields(book, "Addresses"),
  guest: () => [flag("running", "Running"), flag("routes", "Forwards"), text("name", "Name")],
  adapter: (book) => [
    belongs(book),
    ...addressed("Addresses", "10.65.10.11/24").map((f) => ({ ...f, more: false })),
    flag("connected", "Connected"),
    choice(
      "type",
      "Kind",
      { emulated: "emulated, boots from the network", direct: "direct, past the switch" },
      { more: true },
    ),
    text("mac", "MAC", { hint: "02:64:0b:00:00:01", more: true, unless: null }),
    flag("mac_fixed", "MAC is kept", { more: true }),
    forOthers,
    number("order", "Place in guest", "0 is first", { more: true }),
    text("seen_as", "Guest sees it as", { hint: "ens3", more: true }),
    text("team", "Guest’s own team", { hint: "none", more: true }),
    flag("hot_plug", "Hot-plug", { more: true }),
    mtu,
    vid("function_vid", "VID put on", "none", { when: is("type", "direct"), more: true }),
    ...[...standard(() => true, true), admits("as its port group"), ...apart("maybe"), ...guards("maybe")].map((f) => ({
      ...f,
      when: (d: Draft) => d.type !== "direct",
    })),
    ...limits.map((f) => ({ ...f, when: (d: Draft) => d.type !== "direct" && (f.when?.(d) ?? true) })),
  ],
  guest_tag: (book) => [vid("vid", "Tag"), belongs(book), ...addressed("Addresses", "10.65.10.1/24"), forOthers],
  mirror: () => [
    choice("direction", "Copies", { both: "both ways", sent: "what it sends", received: "what it receives" }),
  ],
  fabric_switch: () => [
    vids("vlans", "Defines VIDs", "all of them"),
    flag("spanning_tree", "Spanning tree"),
    number("priority", "Priority", "in steps of 4096", { when: (d) => Boolean(d.spanning_tree) }),
    text("mac", "Bridge address", { hint: "02:64:0c:00:00:01", unless: null, when: (d) => Boolean(d.spanning_tree) }),
    flag("managed", "Managed", { more: true }),
    flag("partial", "Known in part", { more: true }),
    flag("marks_leases", "Marks questions for leases", { more: true }),
    mtu,
    text("site", "Site", { more: true }),
    text("name", "Name", { more: true }),
  ],
  lag: (book, record) => [
    text("name", "Name"),
    flag("lacp", "By LACP"),
    flag("individual", "Ports stand alone"),
    ref("beside", "One with", [
      ["", "none: it stands alone"],
      ...book.records.lag
        .filter((l) => l.switch !== record?.switch)
        .map((l): [string, string] => [l.id, `${l.name} of ${book.get("fabric_switch", l.switch)?.name ?? ""}`]),
    ]),
  ],
  fabric_port: (book, record) => {
    const lags = book.of("lag", "switch", record?.switch ?? "");
    return [
      ...tagging("untagged dropped"),
      flag("enabled", "Enabled"),
      ref("lag", "LAG", [["", "none"], ...lags.map((l): [string, string] => [l.id, l.name])], { more: !lags.length }),
      number("speed", "Speed", "Mbit/s", { more: true }),
      mtu,
      flag("partial", "Known in part", { more: true }),
      choice("marked", "Marked questions for leases", MARKED, { more: true, absent: "nobody says" }),
      text("name", "Name", { more: true }),
    ];
  },
  station: (book, record) => [
    text("name", "Name"),
    flag("routes", "Forwards"),
    ref("within", "Within switch", withinSwitches(book, record?.id ?? ""), { more: true }),
  ],
  station_port: (book) => [
    vid("vid", "Tag", "untagged"),
    belongs(book),
    ...addressed("Addresses", "10.65.10.1/24"),
    mtu,
    forOthers,
  ],
  route: () => [list("to", "Subnets", "10.65.0.0/16"), text("via", "Next hop", { hint: "10.65.30.1" })],
  filter_line: (book, record) => filterLine(book, record?.of ?? ""),
  lease_scope: () => [
    text("subnet", "Subnet", { hint: "10.65.10.0/24 or 2001:db8:10::/64" }),
    list("pool", "Pool", "10.65.10.100-10.65.10.199", { parted: "," }),
    list("gateways", "Hands out gateway", "none"),
    list("kept", "Keeps", "02:64:0b:00:00:01 10.65.10.40", { parted: ",", more: true }),
    number("minutes", "Leased for", "minutes", { more: true }),
  ],
  lease_relay: (book, record) => [
    ref("at", "Hears at", interfacesOf(book, ownerOf(book, record?.at ?? ""))),
    list("to", "Asks", "10.65.20.2"),
    choice("marked", "Marked questions", MARKED, { more: true, absent: "nobody says" }),
  ],
  advertisement: (book, record) => [
    ref("at", "Heard at", interfacesOf(book, ownerOf(book, record?.at ?? ""))),
    list("prefixes", "Prefixes", "2001:db8:10::/64"),
    list("on_link", "On link alone", "2001:db8:10::/64", { more: true }),
    flag("router", "Offers itself as the way out"),
  ],
  translation: (book, record) => [
    ref("at", "Leaving by", interfacesOf(book, ownerOf(book, record?.at ?? ""))),
    list("sources", "Of subnets", "everybody’s"),
  ],
  inward_translation: (book, record) => [
    ref("at", "Asked at", interfacesOf(book, ownerOf(book, record?.at ?? ""))),
    choice("protocol", "Protocol", { any: "any", tcp: "tcp", udp: "udp" }),
    text("ports", "Ports", {
      hint: "any, or 443, 8000-8080",
      when: (d) => d.protocol === "tcp" || d.protocol === "udp",
    }),
    text("to", "Is for", { hint: "10.65.10.11" }),
    number("port", "At its port", "the same", { when: (d) => d.protocol === "tcp" || d.protocol === "udp" }),
    flag("hairpin", "Also from within"),
  ],
  outside: (book, record) => [
    text("name", "Name", { hint: "internet" }),
    list("subnets", "What is there", "whatever nobody here has"),
    list("knows", "Knows the way to", "none of the plan’s subnets"),
    ...(book.get("station", record?.at ?? "")
      ? [flag("translates", "Translates")]
      : [text("via", "Over next hop", { hint: "an address of the segment" })]),
    number("lends", "Lends addresses", "nobody said how many"),
  ],
  flow: () => [
    text("name", "Name"),
    number("sends", "Sends", "nothing, in Mbit/s"),
    number("gets", "Gets back", "nothing, in Mbit/s"),
    number("limit", "Held to", "nothing holds it, in Mbit/s"),
    flag("burst", "Now and then"),
    number("packet", "Packets of", "as large as they may be, in bytes"),
  ],
  cable: () => [
    text("label", "Label", { hint: "what is written on it" }),
    list("places", "Patch panels", "A1 port 12, B3 port 7", { parted: "," }),
  ],
  // These are made and taken away whole, each where it is seen: an order at a port group, the others by their mends.
  group_order: () => [],
  way_in: () => [],
  shared_address: () => [],
  pattern: () => [text("name", "Name")],
  pattern_switch: () => switchFields,
  pattern_uplink: (book, record) => {
    const under = besideInPattern(book, record?.switch)
      .filter((s) => s.id !== record?.switch)
      .flatMap((s): [string, string][] => [
        ...book
          .of("pattern_uplink", "switch", s.id)
          .map((u): [string, string] => [u.id, `uplink ${u.name} of ${s.name}`]),
        ...book
          .of("pattern_host_port", "switch", s.id)
          .map((p): [string, string] => [p.id, `host port ${p.name} of ${s.name}`]),
      ]);
    const nics = book.of("pattern_nic", "uplink", record?.id ?? "");
    return uplinkFields(under, record?.over, nics.length > 0).map((f) =>
      f.name === "name" ? { ...f, more: false } : f,
    );
  },
  pattern_nic: (book, record) => {
    return [
      text("name", "Name"),
      text("named", "Called on hosts", { hint: "whatever they call it" }),
      number("place", "Place among those", "the only one"),
      number("speed", "Speed", "Mbit/s, any"),
      vids("carried", "Its port carries", "whatever"),
      ref("uplink", "Uplink", patternUplinks(book, record?.pattern ?? "")),
      choice("role", "Part in team"),
      number("rank", "Place in order", "0 is first"),
      mtu,
      number("queues", "Queues", "as the host has it", { more: true }),
      text("cores", "Served by", { hint: "as the host has it", more: true, unless: null }),
    ];
  },
  pattern_host_port: (book) =>
    portFields(book, "First addresses").map((f) => (f.name === "name" ? { ...f, more: false } : f)),
  pattern_port_group: (book, record) =>
    groupFields(besideInPattern(book, record?.switch).flatMap((s) => book.of("pattern_host_port", "switch", s.id))),
  // Made with what they are about: an order by whoever adopts one, the others by stamping and keeping.
  pattern_order: () => [],
  stamp: () => [number("number", "Number", "its addresses count on by it")],
  stamp_nic: () => [],
  own_word: () => [],
  reservation: () => [
    text("name", "Kept for"),
    vids("vids", "VIDs", "none"),
    list("subnets", "Subnets", "10.65.40.0/24"),
  ],
  rule: () => [text("text", "Rule", { hint: "keep ticketing apart from CCTV" })],
  acceptance: () => [text("why", "Why"), text("until", "Until", { hint: "2027-03-31", unless: null })],
};

/** What people say of a record of any kind. */
const ABOUT: FieldSpec[] = [
  text("note", "Note", { hint: "what people should know", more: true }),
  text("owner", "Owner", { hint: "who answers for it", more: true }),
];

/** The segments over which a host may start. */
const bootChoices = (book: Book): [string, string][] => [
  ["", "nothing: it has its own system"],
  ...segmentChoices(book).slice(1),
];

/** The free ports at a host's site into which its BMC may be plugged, and the one into which it is. */
function ownPorts(book: Book, host: string, own: string): [string, string][] {
  const site = book.get("host", host)?.site;
  const free = book.records.fabric_port.filter(
    (p) =>
      p.id === own ||
      (!book.far.has(p.id) &&
        standingAt(book, p.id) === undefined &&
        sameSite(book.get("fabric_switch", p.switch)?.site, site)),
  );
  const named = free.map((p): [string, string] => [p.id, `${portName(book, p.id)} ${tagText(p)}`]);
  return [["", "none"], ...named.sort((a, b) => compareNames(a[1], b[1]))];
}

/** The switches within which a station may be: those into whose ports it is plugged alone. */
function withinSwitches(book: Book, station: string): [string, string][] {
  const at = new Set(
    book.of("station_port", "station", station).map((p) => book.get("fabric_port", p.port)?.switch ?? ""),
  );
  return [
    ["", "none: it is a machine of its own"],
    ...book.records.fabric_switch
      .filter((s) => at.size === 1 && at.has(s.id))
      .map((s): [string, string] => [s.id, s.name]),
  ];
}

/** What a line of somebody’s filter says; its interfaces are those of whoever it is of. */
function filterLine(book: Book, owner: string): FieldSpec<keyof RecordOf<"filter_line"> & string>[] {
  const interfaces: [string, string][] = [["", "any interface"], ...interfacesOf(book, owner)];
  return [
    number("order", "Order", "lines are tried from the least on"),
    choice("action", "Action", { allow: "let through", deny: "dropped", unknown: "not known" }),
    list("sources", "From subnets", "anywhere"),
    list("targets", "To subnets", "anywhere"),
    choice("protocol", "Protocol"),
    text("ports", "To ports", { hint: "any, or 5432, 8000-8080", when: is("protocol", "tcp", "udp") }),
    ref("enters", "Comes in by", interfaces),
    ref("leaves", "Goes out by", interfaces),
  ];
}

/** The interfaces of a guest, station or host, by id, with what each is called there. */
export function interfacesOf(book: Book, owner: string): [string, string][] {
  const adapters = book.of("adapter", "guest", owner);
  const ports = book.of("virtual_switch", "host", owner).flatMap((sw) => book.of("host_port", "switch", sw.id));
  return [
    ...adapters.map((a): [string, string] => [a.id, a.seen_as || a.name]),
    ...adapters.flatMap((a) =>
      book.of("guest_tag", "adapter", a.id).map((t): [string, string] => [t.id, `${a.seen_as || a.name} tag ${t.vid}`]),
    ),
    ...ports.map((p): [string, string] => [p.id, p.name]),
    ...book
      .of("station_port", "station", owner)
      .map((p): [string, string] => [p.id, p.vid ? `tag ${p.vid}` : portOf(book, p.port)]),
  ];
}

/** The guest, station or host whose interface something is; empty where nobody’s. */
export function ownerOf(book: Book, id: string): string {
  const adapter = book.get("adapter", book.get("guest_tag", id)?.adapter ?? id);
  const sw = book.get("virtual_switch", book.get("host_port", id)?.switch);
  return adapter?.guest ?? sw?.host ?? book.get("station_port", id)?.station ?? "";
}

const portOf = (book: Book, id: string): string => `at ${book.get("fabric_port", id)?.name ?? id}`;

/**
 * The fields of a record's form, each with what the API's document says of it; `like` is what a new one begins with.
 */
export function fieldsOf(kind: Kind, book: Book, id?: string, like?: Draft): FieldSpec[] {
  const fields = FIELDS[kind] as (book: Book, record?: unknown) => FieldSpec[];
  const said = SPECS[kind] as Record<string, Said>;
  return [...fields(book, id ? book.byId.get(id) : like), ...ABOUT].map((field) => ({
    ...field,
    ...told(field, said[field.name] ?? {}),
  }));
}

function told(field: FieldSpec, said: Said): Partial<FieldSpec> {
  const { least, most } = said;
  const absent = said.options?.includes(null) || field.kind === "maybe";
  const unless =
    "unless" in field
      ? field.unless
      : (said.unless ??
        (field.kind === "flag" ? false : absent ? null : field.kind === "choice" ? said.options?.[0] : undefined));
  const made: Partial<FieldSpec> = { least, most, unless };
  if (field.kind === "choice") {
    const options = (said.options ?? [])
      .filter((option) => option !== null)
      .map((option): [string, string] => [option, field.words?.[option] ?? option]);
    made.options = field.absent ? [["", field.absent], ...options] : options;
  }
  if (field.kind === "number" && least !== undefined)
    made.hint = [field.hint, `${least} to ${most}`].filter(Boolean).join(", ");
  return made;
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
  if (field.kind === "list")
    return said
      .split(field.parted ?? /[,\s]+/)
      .map((part) => part.trim())
      .filter(Boolean);
  if (field.kind === "vid" || field.kind === "number") {
    if (!said) return field.kind === "number" && field.unless !== undefined ? field.unless : null;
    const held = /^\d+$/.test(said) ? Number(said) : NaN;
    const [least, most] = [
      field.least ?? (field.kind === "vid" ? 1 : 0),
      field.most ?? (field.kind === "vid" ? 4094 : Number.MAX_SAFE_INTEGER),
    ];
    if (field.kind === "vid" && !(held >= least && held <= most))
      wrong.push(`${field.label}: a VID is a number from 1 to 4094`);
    else if (Number.isNaN(held)) wrong.push(`${field.label}: a whole number is needed`);
    else if (held < least || held > most) wrong.push(`${field.label}: ${held} is not within ${least} to ${most}`);
    return held;
  }
  if (field.kind === "vids") return said || (before === "" ? "" : null);
  if (field.kind === "ref" || field.kind === "choice") return said || null;
  return said || (field.unless === null ? null : "");
}
