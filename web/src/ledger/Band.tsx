import { Text } from "@chakra-ui/react";
import { useMemo } from "react";

import { usePlan } from "../api/plan";
import { addressText, byFirst, rangeOf } from "../model/records";

interface Piece {
  subnet: string;
  name: string;
  how: "taken" | "doubled" | "kept";
  left: number;
  width: number;
}

interface Stretch {
  name: string;
  pieces: Piece[];
}

/** Blocks that hold all that is used within one of them, from the least space that does. */
const BLOCKS = ["10.0.0.0/8", "172.16.0.0/12", "192.168.0.0/16", "fc00::/7"];

const HOW: Record<Piece["how"], [string, string]> = {
  taken: ["", ""],
  doubled: ["", ", overlaps another"],
  kept: ["kept for ", ""],
};

/** The address space that the subnets lie in: each block as wide as what is used of it, so that gaps show. */
export function Band() {
  const { book } = usePlan();
  const { segment, reservation } = book.records;
  const stretches = useMemo(() => stretchesOf(segment, reservation), [segment, reservation]);
  if (!stretches.length) return null;
  return (
    <section aria-label="Address space" className="band">
      {stretches.map(({ name, pieces }) => (
        <div key={name} className="band-row">
          <Text fontSize="12px" className="mono band-name" title={name}>
            {name}
          </Text>
          <div className="band-space" role="img" aria-label={`${name}: ${pieces.map((p) => p.subnet).join(", ")}`}>
            {pieces.map(({ subnet, name: of, how, left, width }) => (
              <span
                key={`${subnet} ${of}`}
                className={`band-piece ${how}`}
                title={`${subnet} ${HOW[how][0]}${of}${HOW[how][1]}`}
                style={{ left: `${left}%`, width: `max(3px, ${width}%)` }}
              />
            ))}
          </div>
        </div>
      ))}
    </section>
  );
}

function stretchesOf(
  segments: readonly { name: string; subnets?: string[] }[],
  kept: readonly { name: string; subnets?: string[] }[],
): Stretch[] {
  const all = [...segments.map((s) => ({ ...s, kept: false })), ...kept.map((s) => ({ ...s, kept: true }))].flatMap(
    ({ name, subnets, kept: is }) => (subnets ?? []).map((subnet) => ({ name, subnet, kept: is, ...rangeOf(subnet) })),
  );
  const blocks = BLOCKS.map((block) => ({ block, ...rangeOf(block) }));
  const blockOf = (span: (typeof all)[number]): string =>
    blocks.find((b) => b.bits === span.bits && b.first <= span.first && span.last <= b.last)?.block ??
    (span.bits === 32 ? "other IPv4" : "other IPv6");
  return [...Map.groupBy(all, blockOf).values()].map((spans) => {
    const bits = BigInt(spans[0]!.bits);
    const first = spans.map((s) => s.first).reduce((a, b) => (a < b ? a : b));
    const last = spans.map((s) => s.last).reduce((a, b) => (a > b ? a : b));
    // The narrowest subnet that holds them all.
    let rest = 0n;
    while (first >> rest !== last >> rest) rest++;
    const start = (first >> rest) << rest;
    const share = (length: bigint): number => Number((length * 1_000_000n) >> rest) / 10_000;
    const sorted = [...spans].sort(byFirst);
    const meets = (n: number): boolean =>
      sorted.some((other, m) => m !== n && other.first <= sorted[n]!.last && sorted[n]!.first <= other.last);
    return {
      name: `${addressText(start, spans[0]!.bits)}/${bits - rest}`,
      pieces: sorted.map((span, n) => ({
        subnet: span.subnet,
        name: span.name,
        how: meets(n) ? "doubled" : span.kept ? "kept" : "taken",
        left: share(span.first - start),
        width: share(span.last - span.first + 1n),
      })),
    };
  });
}
