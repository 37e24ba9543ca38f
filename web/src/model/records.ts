import type { Kind, Operation, RecordOf, Records } from "../api/client";

/** Names in the order in which people count: nic2 before nic10. */
export const compareNames = new Intl.Collator("en", { numeric: true }).compare;

type AnyRecord = { id: string } & Record<string, unknown>;

/** Records with the ways into them that the views need; made anew whenever the records change. */
export interface Book {
  records: Records;
  byId: Map<string, AnyRecord & { kind: Kind }>;
  /** Records of a kind whose reference field names the id. */
  of: <K extends Kind>(kind: K, field: string, id: string) => RecordOf<K>[];
  get: <K extends Kind>(kind: K, id: string | null | undefined) => RecordOf<K> | undefined;
  /** What is at the other end of a NIC's or port's cable, and the cable. */
  far: Map<string, { id: string; cable: string }>;
}

export function makeBook(records: Records): Book {
  const byId: Book["byId"] = new Map();
  const far: Book["far"] = new Map();
  for (const kind of Object.keys(records) as Kind[]) {
    for (const record of records[kind]) byId.set(record.id, { ...(record as AnyRecord), kind });
  }
  for (const cable of records.cable) {
    far.set(cable.a, { id: cable.b, cable: cable.id });
    far.set(cable.b, { id: cable.a, cable: cable.id });
  }
  const indexes = new Map<string, Map<unknown, AnyRecord[]>>();
  const of = <K extends Kind>(kind: K, field: string, id: string): RecordOf<K>[] => {
    const key = `${kind}.${field}`;
    let index = indexes.get(key);
    if (!index) {
      index = new Map();
      for (const record of records[kind] as AnyRecord[]) {
        const at = record[field];
        const list = index.get(at);
        if (list) list.push(record);
        else index.set(at, [record]);
      }
      indexes.set(key, index);
    }
    return (index.get(id) ?? []) as RecordOf<K>[];
  };
  const get = <K extends Kind>(kind: K, id: string | null | undefined): RecordOf<K> | undefined => {
    const found = id ? byId.get(id) : undefined;
    return found?.kind === kind ? (found as unknown as RecordOf<K>) : undefined;
  };
  return { records, byId, of, get, far };
}

/** The virtual switch on which a record is, or whose way out it is. */
export function switchOf(book: Book, id: string): RecordOf<"virtual_switch"> | undefined {
  const part = book.get("port_group", id) ?? book.get("host_port", id) ?? book.get("uplink", id) ?? book.get("uplink", book.get("nic", id)?.uplink);
  return book.get("virtual_switch", id) ?? book.get("virtual_switch", part?.switch);
}

/** The host of which a record is a part, a fabric port under one of its NICs included. */
export function hostOf(book: Book, id: string): string | undefined {
  const guest = book.get("guest", id) ?? book.get("guest", book.get("adapter", id)?.guest);
  const nic = book.get("nic", id) ?? book.get("nic", book.far.get(id)?.id);
  return switchOf(book, id)?.host ?? book.get("host", id)?.id ?? guest?.host ?? nic?.host;
}

/** The records after an edit; fields that an edit sets to nothing are left away, as the server does. */
export function applyOperations(records: Records, edit: readonly Operation[]): Records {
  const made = { ...records } as unknown as Record<Kind, AnyRecord[]>;
  for (const operation of edit) {
    const list = made[operation.kind as Kind];
    const id = operation.op === "put" ? (operation.record as AnyRecord).id : operation.id;
    if (operation.op === "patch") {
      made[operation.kind as Kind] = list.map((r) => (r.id === id ? { ...r, ...operation.set } : r));
      continue;
    }
    const rest = list.filter((r) => r.id !== id);
    made[operation.kind as Kind] = operation.op === "put" ? [...rest, operation.record as AnyRecord] : rest;
  }
  return made as unknown as Records;
}

/** The VIDs of a list such as "110, 200-219"; an unreadable part is left out. */
export function vidsOf(text: string | null | undefined): Set<number> {
  const found = new Set<number>();
  for (const item of (text ?? "").split(",")) {
    const match = /^\s*(\d+)(?:\s*-\s*(\d+))?\s*$/.exec(item);
    if (!match) continue;
    const last = Number(match[2] ?? match[1]);
    for (let vid = Number(match[1]); vid <= Math.min(last, 4094); vid++) found.add(vid);
  }
  return found;
}

/** Whether a list such as "110, 200-219" names a VID. */
export function holdsVid(text: string, vid: number | null): boolean {
  return vid !== null && text.split(",").some((item) => {
    const [first = NaN, last = first] = item.split("-").map(Number);
    return first <= vid && vid <= last;
  });
}

/** A list of VIDs in words: 0 is "untagged", an empty list "nothing". */
export function spokenVids(text: string): string {
  const items = text.split(/,\s*/).filter(Boolean);
  return items.map((item) => (item === "0" ? "untagged" : item)).join(", ") || "nothing";
}

/** A VID as typed, or null where it is none. */
export function readVid(text: string): number | null {
  const vid = /^\s*\d+\s*$/.test(text) ? Number(text) : 0;
  return vid >= 1 && vid <= 4094 ? vid : null;
}

/** An address as a number, and of how many bits; as records keep it, so without dots in IPv6. */
function addressBits(text: string): [bigint, number] {
  if (!text.includes(":")) return [text.split(".").reduce((sum, part) => sum * 256n + BigInt(part), 0n), 32];
  const [head = [], tail = []] = text.split("::").map((half) => half.split(":").filter(Boolean));
  const groups = [...head, ...Array<string>(8 - head.length - tail.length).fill("0"), ...tail];
  return [groups.reduce((sum, group) => sum * 65536n + BigInt(`0x${group}`), 0n), 128];
}

/** Whether an address (a prefix length behind it or not) is in a subnet. */
export function inSubnet(address: string, subnet: string): boolean {
  const [net = "", length = "0"] = subnet.split("/");
  const [one, bits] = addressBits(address.split("/")[0] ?? "");
  const [two, others] = addressBits(net);
  const rest = BigInt(bits - Number(length));
  return bits === others && one >> rest === two >> rest;
}

/** Speed as people say it: 10G, 1G, 100M. */
export function speed(mbits: number | null | undefined): string {
  if (!mbits) return "";
  return mbits >= 1000 ? `${mbits / 1000}G` : `${mbits}M`;
}

/** How a segment is drawn: a hue and a dash pattern, by its place among the segments. */
export function segmentStyle(number: number): { color: string; dash: string } {
  const dashes = ["", "9 4", "3 4", "12 3 3 3", "6 3", "14 5", "2 3", "10 3 2 3 2 3"];
  return { color: `var(--seg-${((number % 8) + 8) % 8})`, dash: dashes[((number % 8) + 8) % 8] ?? "" };
}
