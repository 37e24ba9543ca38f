import type { RecordOf } from "../api/client";
import type { Book } from "../model/records";
import type { Choice } from "../parts/SearchBox";

const SERVICE = "service ";

/** The interfaces to which something can be sent. */
export function interfaces(book: Book): Choice[] {
  const made: Choice[] = [];
  const add = (id: string, label: string, where: string): void => {
    made.push({ value: id, label, detail: where, text: `${label} ${where} ${id}`.toLowerCase() });
  };
  for (const adapter of book.records.adapter) {
    const guest = book.get("guest", adapter.guest);
    add(
      adapter.id,
      `${guest?.name ?? ""} ${adapter.name}`,
      `guest on ${book.get("host", guest?.host ?? "")?.name ?? ""}`,
    );
  }
  for (const tag of book.records.guest_tag) {
    const adapter = book.get("adapter", tag.adapter);
    add(tag.id, `${adapter?.name ?? ""} tag ${tag.vid}`, "a guest’s own tag");
  }
  for (const port of book.records.host_port) {
    const host = book.get("virtual_switch", port.switch)?.host ?? "";
    add(port.id, `${book.get("host", host)?.name ?? ""} ${port.name}`, "host port");
  }
  for (const port of book.records.station_port) {
    const name = book.get("station", port.station)?.name ?? "";
    add(port.id, port.vid ? `${name} tag ${port.vid}` : name, "station");
  }
  return made;
}

/** Whoever may be said to send: segments, services, port groups, parts of patterns for all there, and interfaces. */
export function senders(book: Book): Choice[] {
  const made: Choice[] = [];
  const add = (value: string, label: string, detail: string): void => {
    made.push({ value, label, detail, text: `${label} ${detail}`.toLowerCase() });
  };
  const services = new Set(book.records.host_port.flatMap((port) => port.services ?? []));
  for (const service of [...services].sort()) add(SERVICE + service, service, "each host port with this service");
  for (const segment of book.records.segment) add(segment.id, segment.name, "each endpoint on this segment");
  for (const part of [...book.records.pattern_host_port, ...book.records.pattern_port_group])
    add(part.id, part.name, "whatever a pattern makes of this");
  for (const group of book.records.port_group) {
    const host = book.get("virtual_switch", group.switch)?.host ?? "";
    add(group.id, `${group.name} of ${book.get("host", host)?.name ?? ""}`, "each adapter in this port group");
  }
  return [...made, ...interfaces(book)];
}

/** What a choice of a sender makes of a flow. */
export const senderOf = (value: string): { of: string | null; service: string } =>
  value.startsWith(SERVICE) ? { of: null, service: value.slice(SERVICE.length) } : { of: value || null, service: "" };

/** The choice that a flow stands for. */
export const chosenOf = (flow: RecordOf<"flow">): string => flow.of ?? (flow.service ? SERVICE + flow.service : "");
