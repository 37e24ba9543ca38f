/** Numbers as text: runs of three or more as ranges. */
export function rangeText(numbers: readonly number[]): string {
  const runs: [number, number][] = [];
  for (const n of [...numbers].sort((a, b) => a - b)) {
    const last = runs.at(-1);
    if (last && last[1] === n - 1) last[1] = n;
    else runs.push([n, n]);
  }
  return runs
    .map(([from, to]) => (to - from > 1 ? `${from}-${to}` : from === to ? String(from) : `${from}, ${to}`))
    .join(", ");
}
