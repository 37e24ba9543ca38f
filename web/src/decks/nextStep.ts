import type { Book } from "../model/records";

/** What somebody who begins a plan would do next: in words, and as a button that opens it. */
export interface NextStep {
  text: string;
  button: string;
  /** A page of what can be added to the plan, a switch to be made on a host, or a record whose panel has a section. */
  open: { page: string } | { build: string } | { record: string; section: string };
}

/** A plan of more hosts than these is no beginning any more: what is left to do there, its owners know. */
const FEW = 3;

/**
 * The next step of a plan that begins, in the order of the work; null once each host has its switch, cable and guest.
 */
export function nextStep(book: Book): NextStep | null {
  const { host, segment, fabric_switch, fabric_port, assumed_fabric } = book.records;
  const [first] = host;
  if (!first)
    return { text: "A plan begins with what is there.", button: "Add the first host", open: { page: "host" } };
  if (!segment.length)
    return {
      text: "Say which segments you want, each with its VID.",
      button: "Add a segment",
      open: { page: "segment" },
    };
  if (host.length > FEW) return null;
  const bare = host.find((h) => !book.of("virtual_switch", "host", h.id).length);
  if (bare)
    return {
      text: `${bare.name} has no virtual switch yet: take NICs, name a port group, give it its tag.`,
      button: `Make a switch on ${bare.name}`,
      open: { build: bare.id },
    };
  const loose = book.records.nic.find((n) => n.uplink && !book.far.has(n.id) && !n.addresses?.length);
  if (loose && !assumed_fabric.length) {
    const name = `${book.get("host", loose.host)?.name ?? ""} ${loose.name}`;
    if (!fabric_switch.length)
      return {
        text: `Nobody knows yet what is behind ${name}.`,
        button: "Add the fabric switch",
        open: { page: "fabric_switch" },
      };
    const empty = fabric_switch.find((s) => !book.of("fabric_port", "switch", s.id).length);
    if (empty && !fabric_port.some((p) => !book.far.has(p.id)))
      return {
        text: `${empty.name} has no ports yet.`,
        button: `Give ${empty.name} ports`,
        open: { record: empty.id, section: "Ports" },
      };
    return {
      text: `${name} is in an uplink, and plugged into nothing.`,
      button: `Plug in ${name}`,
      open: { record: loose.id, section: "Cable" },
    };
  }
  const quiet = host.find((h) => !book.of("guest", "host", h.id).length);
  if (quiet)
    return {
      text: "Everything is there for a guest to be attached.",
      button: `Make a guest on ${quiet.name}`,
      open: { record: quiet.id, section: "Guest" },
    };
  return null;
}
