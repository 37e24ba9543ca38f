import type { RecordOf } from "../api/client";
import { addressText, rangeOf, type Book } from "./records";

/** So many addresses of a subnet are tried; one in which as many are taken in a row offers none. */
const TRIED = 20_000n;

const bearing = new WeakMap<Book, ReadonlySet<string>>();

/** Every address that a plan speaks of, by number and bits. */
function taken(book: Book): ReadonlySet<string> {
  const known = bearing.get(book);
  if (known) return known;
  const { adapter, guest_tag, host_port, station_port, nic, segment, shared_address, lease_scope } = book.records;
  const borne = [adapter, guest_tag, host_port, station_port, nic].flatMap((these) =>
    (these as { addresses?: string[] }[]).flatMap((record) => record.addresses ?? []),
  );
  const named = segment.flatMap((s) => [...(s.gateways ?? []), ...(s.lease_servers ?? [])]);
  const made = new Set<string>();
  const kept = lease_scope.flatMap((scope) => (scope.kept ?? []).map((text) => text.split(" ")[1]!));
  for (const text of [...borne, ...named, ...kept, ...shared_address.map((s) => s.address)]) {
    const { first, bits } = rangeOf(text.split("/")[0]!);
    made.add(`${bits} ${first}`);
  }
  bearing.set(book, made);
  return made;
}

/** Addresses of so many bits, from a first to a last one. */
interface Span {
  first: bigint;
  last: bigint;
  bits: number;
}

/** A range of addresses, such as 10.65.10.100-10.65.10.199, in numbers. */
function spanOf(text: string): Span {
  const [low, high = low] = text.split("-");
  const { first, bits } = rangeOf(low!);
  return { first, last: rangeOf(high!).first, bits };
}

/** What a segment's addresses of so many bits are for, in numbers. */
const meant = (segment: RecordOf<"segment">, bits: number): (Span & { purpose: string })[] =>
  (segment.ranges ?? [])
    .map((text) => ({ purpose: text.split(" ")[0]!, ...spanOf(text.split(" ")[1]!) }))
    .filter((span) => span.bits === bits)
    .sort((a, b) => (a.first < b.first ? -1 : 1));

/**
 * The next address of a segment's first subnet that nobody has, with its prefix length; null where there is none.
 * It is one of its static ranges, where it has some, and none that is for something else.
 */
export function freeAddress(book: Book, segment: RecordOf<"segment"> | undefined): string | null {
  const subnet = segment?.subnets?.[0];
  if (!subnet) return null;
  const { first, last, bits } = rangeOf(subnet);
  const used = taken(book);
  const ranges = meant(segment, bits);
  const leased = [
    ...book.records.lease_scope.flatMap((scope) => (scope.pool ?? []).map(spanOf)),
    ...ranges.filter(({ purpose }) => purpose !== "static"),
  ];
  // Of two addresses, or one, all are somebody's (RFC 3021, RFC 6164); of more, the first is the network's own, and
  // the last one in IPv4 everybody's.
  const few = last - first < 2n;
  const from = few ? first : first + 1n;
  const to = few || bits === 128 ? last : last - 1n;
  const own = ranges.filter((span) => span.purpose === "static" && span.first <= to && from <= span.last);
  for (const { first: low, last: high } of own.length ? own : [{ first: from, last: to }])
    for (let at = low < from ? from : low; at <= to && at <= high && at < low + TRIED; at++)
      if (
        !used.has(`${bits} ${at}`) &&
        !leased.some((pool) => pool.bits === bits && pool.first <= at && at <= pool.last)
      )
        return `${addressText(at, bits)}/${subnet.split("/")[1]}`;
  return null;
}
