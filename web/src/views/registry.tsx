import {
  CircuitBoard,
  Cpu,
  Gauge,
  GitBranch,
  Grid3x3,
  Handshake,
  History as Clock,
  LayoutList,
  ListTree,
  MoveRight,
  Route,
  Scale,
  Split,
  Stamp,
  Table2,
  Waypoints,
  type LucideIcon,
} from "lucide-react";
import type { ComponentType } from "react";

import { FollowAhead } from "../decks/followed";

/** The groups of views, in the order of the work. */
export const GROUPS = ["See", "Plan", "Build", "Check", "Stress", "Carry out"] as const;

/** A view of a plan. The rail, the routes, the finder and the list of keys are made of these. */
export interface View {
  /** The last part of its address. */
  address: string;
  name: string;
  group: (typeof GROUPS)[number];
  /** The single key that goes there. */
  key: string;
  icon: LucideIcon;
  /** What it shows, in a few words. */
  does: string;
  /** Whether it waits for all records of the plan. */
  records: boolean;
  /** Has its code come, once. */
  load: () => Promise<ComponentType>;
  /** What is shown, once its code has come. */
  loaded: () => ComponentType | null;
  /** Asks for what it shows beside the records while they are still to come. */
  Ahead?: ComponentType;
}

function once(fetch: () => Promise<ComponentType>): Pick<View, "load" | "loaded"> {
  let here: ComponentType | null = null;
  return { load: async () => (here ??= await fetch()), loaded: () => here };
}

export const VIEWS: readonly View[] = [
  {
    address: "decks",
    name: "Decks",
    group: "See",
    key: "1",
    icon: ListTree,
    does: "hosts in cross-section",
    records: true,
    Ahead: FollowAhead,
    ...once(async () => (await import("./Decks")).Decks),
  },
  {
    address: "strand",
    name: "Strand",
    group: "See",
    key: "0",
    icon: Split,
    does: "one segment alone, or one cable",
    records: true,
    ...once(async () => (await import("./Strand")).Strand),
  },
  {
    address: "sources",
    name: "Sources",
    group: "See",
    key: "s",
    icon: Waypoints,
    does: "other systems that define networks",
    records: true,
    ...once(async () => (await import("./Sources")).Sources),
  },
  {
    address: "ledger",
    name: "Ledger",
    group: "Plan",
    key: "8",
    icon: Table2,
    does: "the segments as a sheet, with VIDs and addresses",
    records: true,
    ...once(async () => (await import("./Ledger")).Ledger),
  },
  {
    address: "rules",
    name: "Rules",
    group: "Plan",
    key: "r",
    icon: Scale,
    does: "what must hold, and whether it does",
    records: true,
    ...once(async () => (await import("./Rules")).Rules),
  },
  {
    address: "patterns",
    name: "Patterns",
    group: "Plan",
    key: "6",
    icon: Stamp,
    does: "what hosts have alike",
    records: true,
    ...once(async () => (await import("./Patterns")).Patterns),
  },
  {
    address: "drafts",
    name: "Drafts",
    group: "Plan",
    key: "7",
    icon: GitBranch,
    does: "try changes beside the plan, land them as one",
    records: false,
    ...once(async () => (await import("./Drafts")).Drafts),
  },
  {
    address: "lattice",
    name: "Lattice",
    group: "Check",
    key: "9",
    icon: Grid3x3,
    does: "segments by hosts",
    records: true,
    ...once(async () => (await import("./Lattice")).Lattice),
  },
  {
    address: "landing",
    name: "Landing",
    group: "Check",
    key: "2",
    icon: LayoutList,
    does: "where every adapter lands",
    records: true,
    ...once(async () => (await import("./Landing")).Landing),
  },
  {
    address: "meetings",
    name: "Meetings",
    group: "Check",
    key: "t",
    icon: Handshake,
    does: "who meets whom, against who may",
    records: true,
    ...once(async () => (await import("./Meetings")).Meetings),
  },
  {
    address: "trace",
    name: "Trace",
    group: "Check",
    key: "3",
    icon: Route,
    does: "follow a frame",
    records: true,
    ...once(async () => (await import("./TraceView")).TraceView),
  },
  {
    address: "queues",
    name: "Queues",
    group: "Stress",
    key: "q",
    icon: CircuitBoard,
    does: "which processor cores serve which NIC",
    records: true,
    ...once(async () => (await import("./Queues")).Queues),
  },
  {
    address: "load",
    name: "Load",
    group: "Stress",
    key: "l",
    icon: Gauge,
    does: "how full cables get, and who gets how much",
    records: true,
    ...once(async () => (await import("./Load")).Load),
  },
  {
    address: "moves",
    name: "Moves",
    group: "Stress",
    key: "v",
    icon: MoveRight,
    does: "which guest can run on which host",
    records: true,
    ...once(async () => (await import("./Moves")).Moves),
  },
  {
    address: "bench",
    name: "Bench",
    group: "Carry out",
    key: "4",
    icon: Cpu,
    does: "prove the plan in a real kernel",
    records: false,
    ...once(async () => (await import("./Bench")).Bench),
  },
  {
    address: "history",
    name: "History",
    group: "Carry out",
    key: "5",
    icon: Clock,
    does: "every revision, and any two beside each other",
    records: false,
    ...once(async () => (await import("./History")).History),
  },
];

/** The views of each group that has any. */
export const GROUPED: readonly [View["group"], View[]][] = GROUPS.map((group): [View["group"], View[]] => [
  group,
  VIEWS.filter((view) => view.group === group),
]).filter(([, views]) => views.length);
