import type { RecordOf, Records } from "../api/client";
import { addressText, byFirst, holdsVid, inSubnet, rangeOf } from "../model/records";
import type { CellMark } from "../parts/SheetGrid";

type Segment = RecordOf<"segment">;

/** What a cell is known by. */
export const cellOf = (row: string, column: string): string => `${row} ${column}`;

/** Names as if case, blanks and dashes were nothing. */
const alike = (name: string): string => name.toLowerCase().replaceAll(/[\s_-]+/g, "");

const others = (these: readonly Segment[], own: Segment): string =>
  these
    .filter((segment) => segment.id !== own.id)
    .map((segment) => segment.name)
    .join(", ");

/** What is odd about segments, by cell: doubled tags, overlapping subnets, gateways outside, names alike. */
export function marksOf(
  segments: readonly Segment[],
  reservations: readonly RecordOf<"reservation">[],
): Map<string, CellMark> {
  const made = new Map<string, CellMark>();
  const grouped = (column: string, key: (s: Segment) => unknown, say: (names: string) => string): void => {
    for (const these of Map.groupBy(segments, key).entries())
      if (these[0] !== null && these[0] !== undefined && these[1].length > 1)
        for (const own of these[1]) made.set(cellOf(own.id, column), { tone: "bad", text: say(others(these[1], own)) });
  };
  grouped(
    "vid",
    (s) => s.vid,
    (names) => `${names} has this VID too`,
  );
  grouped(
    "vni",
    (s) => s.vni,
    (names) => `${names} has this VNI too`,
  );
  for (const these of Map.groupBy(segments, (s) => alike(s.name)).values())
    if (these.length > 1)
      for (const own of these)
        made.set(cellOf(own.id, "name"), { tone: "warn", text: `nearly the name of ${others(these, own)}` });
  const spans = segments
    .flatMap((segment) => (segment.subnets ?? []).map((subnet) => ({ segment, subnet, ...rangeOf(subnet) })))
    .sort((a, b) => a.bits - b.bits || byFirst(a, b));
  // Subnets lie within each other or apart: the widest one that still reaches here is the one to look at.
  let open: (typeof spans)[number] | undefined;
  for (const span of spans) {
    if (open && open.bits === span.bits && span.first <= open.last) {
      if (open.segment.id !== span.segment.id)
        for (const [own, other] of [[span, open] as const, [open, span] as const])
          made.set(cellOf(own.segment.id, "subnets"), {
            tone: "bad",
            text: `${own.subnet} overlaps ${other.subnet} of ${other.segment.name}`,
          });
    } else open = span;
  }
  for (const segment of segments) {
    const outside = (segment.gateways ?? []).filter(
      (gateway) => segment.subnets?.length && !segment.subnets.some((subnet) => inSubnet(gateway, subnet)),
    );
    if (outside.length)
      made.set(cellOf(segment.id, "gateways"), {
        tone: "bad",
        text: `${outside.join(", ")} is in none of its subnets`,
      });
    const kept =
      segment.vid && reservations.find((r) => holdsVid(r.vids ?? "", segment.vid!) && r.name !== segment.name);
    if (kept && !made.has(cellOf(segment.id, "vid")))
      made.set(cellOf(segment.id, "vid"), { tone: "warn", text: `kept for ${kept.name}` });
  }
  return made;
}

/** Beyond every VID: a set that goes further is cut here. */
const BEYOND = 4095;

/** The VIDs of a set as records write it: 10, 20-29. */
export function vidsIn(text: string | null | undefined): Set<number> {
  const found = new Set<number>();
  for (const part of (text ?? "").split(",")) {
    const [low, high = low] = part.split("-").map(Number);
    for (let vid = low!; low && vid <= Math.min(high!, BEYOND); vid++) found.add(vid);
  }
  return found;
}

/** What holds each VID: the segments by name, and what it is kept for. */
export function holders({
  segment: segments,
  secondary_vlan: secondaries,
  reservation: reservations,
}: Pick<Records, "segment" | "secondary_vlan" | "reservation">): Map<number, { segments: string[]; kept: string[] }> {
  const found = new Map<number, { segments: string[]; kept: string[] }>();
  const at = (vid: number): { segments: string[]; kept: string[] } => {
    const known = found.get(vid) ?? { segments: [], kept: [] };
    found.set(vid, known);
    return known;
  };
  for (const segment of segments) if (segment.vid) at(segment.vid).segments.push(segment.name);
  const names = new Map(segments.map((segment) => [segment.id, segment.name]));
  for (const { vid, segment } of secondaries) at(vid).segments.push(`a secondary VLAN of ${names.get(segment)}`);
  for (const kept of reservations) for (const vid of vidsIn(kept.vids)) at(vid).kept.push(kept.name);
  return found;
}

/** The next VID that nobody holds: after the last one (of a role, where one is given). */
export function freeVid(segments: readonly Segment[], held: ReadonlyMap<number, unknown>, role: string): number | null {
  const own = segments.filter((s) => (!role || s.role === role) && s.vid).map((s) => s.vid!);
  const start = own.length ? Math.max(...own) : 1;
  for (let n = 1; n < 4094; n++) {
    const vid = ((start + n - 1) % 4094) + 1;
    if (vid > 1 && !held.has(vid)) return vid;
  }
  return null;
}

/** The next subnet as wide as most of them that overlaps none, after the last one of the role. */
export function freeSubnet(
  segments: readonly Segment[],
  reservations: readonly RecordOf<"reservation">[],
  role: string,
): string | null {
  const all = [...segments, ...reservations].flatMap((s) => s.subnets ?? []).map((text) => rangeOf(text));
  const taken = all.filter((range) => range.bits === 32);
  const own = segments.filter((s) => !role || s.role === role).flatMap((s) => s.subnets ?? []);
  const like = (own.length ? own : segments.flatMap((s) => s.subnets ?? [])).filter((text) => !text.includes(":"));
  if (!like.length) return null;
  const lengths = Map.groupBy(like, (text) => Number(text.split("/")[1]));
  const length = [...lengths].sort((a, b) => b[1].length - a[1].length)[0]![0];
  const size = 1n << BigInt(32 - length);
  let first = like.map((text) => rangeOf(text).last).reduce((a, b) => (a > b ? a : b)) + 1n;
  first = ((first + size - 1n) / size) * size;
  for (; first + size <= 1n << 32n; first += size) {
    const last = first + size - 1n;
    if (!taken.some((range) => range.first <= last && first <= range.last))
      return `${addressText(first, 32)}/${length}`;
  }
  return null;
}
