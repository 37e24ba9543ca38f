import { runsOf } from "../model/records";

/** Processors as text: runs of three or more as ranges. */
export const rangeText = (processors: readonly number[]): string =>
  runsOf(processors)
    .map(([from, to]) => (to - from > 1 ? `${from}-${to}` : from === to ? String(from) : `${from}, ${to}`))
    .join(", ");
