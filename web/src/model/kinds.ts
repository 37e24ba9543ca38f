import type { Kind } from "../api/client";

/** The kinds that say how hosts are meant to be alike: what hangs on them is the affair of gestures. */
export const PATTERN_KINDS = [
  "pattern",
  "pattern_switch",
  "pattern_uplink",
  "pattern_nic",
  "pattern_host_port",
  "pattern_port_group",
  "pattern_order",
] as const satisfies Kind[];
export type PatternKind = (typeof PATTERN_KINDS)[number];

/** Whether a kind is a pattern’s. */
export const isPatternKind = (kind: Kind): kind is PatternKind => (PATTERN_KINDS as readonly Kind[]).includes(kind);

/** What one record of a kind is called, and several; a kind of which the API speaks can't be missing. */
export const WORDS: { [K in Kind]: [string, string] } = {
  segment: ["segment", "segments"],
  source: ["source", "sources"],
  secondary_vlan: ["secondary VLAN", "secondary VLANs"],
  limits: ["limits sheet", "limits sheets"],
  assumed_fabric: ["assumed fabric", "assumed fabrics"],
  host: ["host", "hosts"],
  numa_node: ["NUMA node", "NUMA nodes"],
  bmc: ["BMC", "BMCs"],
  virtual_switch: ["virtual switch", "virtual switches"],
  uplink: ["uplink", "uplinks"],
  nic: ["NIC", "NICs"],
  host_port: ["host port", "host ports"],
  port_group: ["port group", "port groups"],
  group_order: ["team order", "team orders"],
  guest: ["guest", "guests"],
  adapter: ["adapter", "adapters"],
  mirror: ["mirror", "mirrors"],
  guest_tag: ["guest’s tag", "guests’ tags"],
  fabric_switch: ["fabric switch", "fabric switches"],
  lag: ["LAG", "LAGs"],
  fabric_port: ["fabric port", "fabric ports"],
  cable: ["cable", "cables"],
  station: ["station", "stations"],
  station_port: ["station’s port", "stations’ ports"],
  way_in: ["way in", "ways in"],
  route: ["route", "routes"],
  filter_line: ["filter line", "filter lines"],
  lease_scope: ["lease scope", "lease scopes"],
  lease_relay: ["lease relay", "lease relays"],
  advertisement: ["advertisement", "advertisements"],
  translation: ["translation", "translations"],
  inward_translation: ["inward translation", "inward translations"],
  outside: ["outside network", "outside networks"],
  flow: ["flow", "flows"],
  shared_address: ["shared address", "shared addresses"],
  pattern: ["pattern", "patterns"],
  pattern_switch: ["pattern’s switch", "patterns’ switches"],
  pattern_uplink: ["pattern’s uplink", "patterns’ uplinks"],
  pattern_nic: ["pattern’s NIC", "patterns’ NICs"],
  pattern_host_port: ["pattern’s host port", "patterns’ host ports"],
  pattern_port_group: ["pattern’s port group", "patterns’ port groups"],
  pattern_order: ["pattern’s team order", "patterns’ team orders"],
  stamp: ["stamp", "stamps"],
  stamp_nic: ["stamp’s NIC", "stamps’ NICs"],
  own_word: ["own word", "own words"],
  acceptance: ["acceptance", "acceptances"],
  reservation: ["reservation", "reservations"],
  rule: ["rule", "rules"],
};

/** Some records of a kind, counted. */
export const counted = (kind: Kind, n: number): string => `${n.toLocaleString("en")} ${WORDS[kind][n === 1 ? 0 : 1]}`;

/** What one is called at the start of a title. */
export const titled = (kind: Kind): string => `${WORDS[kind][0].charAt(0).toUpperCase()}${WORDS[kind][0].slice(1)}`;
