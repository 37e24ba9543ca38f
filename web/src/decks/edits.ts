import type { Operation, PreviewResult, RecordOf, Verdict } from "../api/client";
import { tagText } from "../model/ports";
import { compareNames, type Book } from "../model/records";

/** What makes a segment that a source defines the plan’s own. */
export const MADE_OWN = { source: null, origin: "", vanished: false } as const;

export interface Proposal {
  key: string;
  /** The choice in a few words, as a list shows it. */
  label: string;
  detail: string;
  /** The message under which the edit is kept. */
  message: string;
  operations: Operation[];
}

/** Where an adapter belongs and where it is attached, in words. */
export function whereabouts(book: Book, adapter: RecordOf<"adapter">): string {
  const belongs = book.get("segment", adapter.belongs)?.name ?? "nothing yet";
  return `belongs on ${belongs}, now in ${book.get("port_group", adapter.port_group)?.name ?? "no port group"}`;
}

export const patch = (kind: Operation["kind"], id: string, set: Record<string, unknown>): Operation => ({
  op: "patch",
  kind,
  id,
  set,
});

export function moveAdapter(book: Book, adapter: RecordOf<"adapter">, group: RecordOf<"port_group">): Proposal {
  const guest = book.get("guest", adapter.guest)?.name ?? adapter.name;
  const sw = book.get("virtual_switch", group.switch)?.name ?? "";
  return {
    key: group.id,
    label: group.name,
    detail: `${tagText(group)} on ${sw}`,
    message: `Move ${guest} to ${group.name}`,
    operations: [patch("adapter", adapter.id, { port_group: group.id })],
  };
}

/** The port groups of an adapter's host, other than its own; those with the tag of its segment first. */
export function seatsFor(book: Book, adapter: RecordOf<"adapter">): Proposal[] {
  const host = book.get("guest", adapter.guest)?.host;
  if (!host) return [];
  const wanted = book.get("segment", adapter.belongs)?.vid;
  const fits = (group: RecordOf<"port_group">): boolean => !!wanted && group.vid === wanted;
  return book
    .of("virtual_switch", "host", host)
    .flatMap((sw) => book.of("port_group", "switch", sw.id))
    .filter((group) => group.id !== adapter.port_group)
    .sort(
      (a, b) => Number(fits(b)) - Number(fits(a)) || (a.vid ?? 5000) - (b.vid ?? 5000) || compareNames(a.name, b.name),
    )
    .map((group) => moveAdapter(book, adapter, group));
}

export function portName(book: Book, id: string): string {
  const port = book.get("fabric_port", id);
  return port
    ? `${book.get("fabric_switch", port.switch)?.name ?? ""} ${port.name}`
    : (book.get("nic", id)?.name ?? id);
}

/** Who stands at a fabric port without a cable: a station, or a host’s BMC; undefined: nobody. */
export function standingAt(book: Book, port: string): string | undefined {
  const station = book.of("station_port", "port", port)[0]?.station;
  const controller = book.of("bmc", "port", port)[0];
  return book.get("station", station)?.name ?? (controller && `${book.get("host", controller.host)?.name ?? ""} BMC`);
}

/** Plug a NIC's cable into another port; a port in use hands its own cable over in exchange. */
export function plug(book: Book, nic: RecordOf<"nic">, port: RecordOf<"fabric_port">): Proposal {
  const mine = book.far.get(nic.id);
  const theirs = book.far.get(port.id);
  const other = theirs ? book.get("nic", theirs.id) : undefined;
  const operations: Operation[] = [];
  if (mine) operations.push(repoint(book, mine.cable, mine.id, port.id));
  else if (!theirs)
    operations.push({ op: "put", kind: "cable", record: { id: `cable:${nic.id}`, a: nic.id, b: port.id } });
  if (theirs)
    operations.push(
      mine ? repoint(book, theirs.cable, port.id, mine.id) : repoint(book, theirs.cable, theirs.id, nic.id),
    );
  const name = portName(book, port.id);
  const hostName = (of: RecordOf<"nic">): string => book.get("host", of.host)?.name ?? "";
  return {
    key: port.id,
    label: name,
    detail: tagText(port) + (other ? `, in exchange with ${hostName(other)} ${other.name}` : ""),
    message: other
      ? `Swap the cables of ${hostName(nic)} ${nic.name} and ${other.name}`
      : `Plug ${hostName(nic)} ${nic.name} into ${name}`,
    operations,
  };
}

function repoint(book: Book, cable: string, from: string, to: string): Operation {
  const record = book.get("cable", cable);
  return patch("cable", cable, { [record?.a === from ? "a" : "b"]: to });
}

/** Whether a cable can join two things: those of which one stands at no site that anybody named can be anywhere. */
export const sameSite = (a: string | null | undefined, b: string | null | undefined): boolean => !a || !b || a === b;

/** Where a NIC's cable could go: free ports at its site, and the ports of the host's other NICs in exchange. */
export function portsFor(book: Book, nic: RecordOf<"nic">): Proposal[] {
  const site = book.get("host", nic.host)?.site;
  const mine = book.far.get(nic.id)?.id;
  return book.records.fabric_port
    .filter((port) => {
      if (port.id === mine) return false;
      const far = book.far.get(port.id)?.id;
      if (far) return book.get("nic", far)?.host === nic.host;
      return sameSite(book.get("fabric_switch", port.switch)?.site, site);
    })
    .sort((a, b) => compareNames(portName(book, a.id), portName(book, b.id)))
    .map((port) => plug(book, nic, port));
}

export function unplug(book: Book, nic: RecordOf<"nic">): Proposal | null {
  const mine = book.far.get(nic.id);
  if (!mine) return null;
  return {
    key: "unplug",
    label: "nothing",
    detail: "take the cable away",
    message: `Unplug ${book.get("host", nic.host)?.name ?? ""} ${nic.name}`,
    operations: [{ op: "drop", kind: "cable", id: mine.cable }],
  };
}

/** What becomes of one endpoint under a previewed edit. */
export function outcome(result: PreviewResult | undefined, endpoint: string, now: Verdict): Verdict | null {
  if (!result || result.problems.length) return null;
  const move = result.moves.find((m) => m.endpoint === endpoint);
  return move ? move.after : now;
}
