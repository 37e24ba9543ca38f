/** What can be read of a map. */
export interface Reading<K, V> {
  get: (key: K) => V | undefined;
  has: (key: K) => boolean;
  values: () => Iterable<V>;
}

/** With more differing entries than these a map is made anew. */
const MOST = 1_000;

/** A map some of whose entries are others than in the one beneath, or gone (undefined). */
class Over<K, V> implements Reading<K, V> {
  constructor(
    readonly beneath: ReadonlyMap<K, V>,
    readonly differing: ReadonlyMap<K, V | undefined>,
  ) {}

  get(key: K): V | undefined {
    return this.differing.has(key) ? this.differing.get(key) : this.beneath.get(key);
  }

  has(key: K): boolean {
    return this.get(key) !== undefined;
  }

  /** In the order of the map beneath; what it doesn't have comes last. */
  *values(): Iterable<V> {
    for (const key of this.beneath.keys()) {
      const value = this.get(key);
      if (value !== undefined) yield value;
    }
    for (const [key, value] of this.differing) if (value !== undefined && !this.beneath.has(key)) yield value;
  }
}

/** A map with other values (undefined: gone), which costs what differs; the one before stays as it is. */
export function over<K, V>(before: Reading<K, V>, news: Iterable<readonly [K, V | undefined]>): Reading<K, V> {
  const [beneath, known] =
    before instanceof Over
      ? [before.beneath as ReadonlyMap<K, V>, before.differing as ReadonlyMap<K, V | undefined>]
      : [before as ReadonlyMap<K, V>, []];
  const differing = new Map<K, V | undefined>(known);
  for (const [key, value] of news) differing.set(key, value);
  if (differing.size <= MOST) return new Over(beneath, differing);
  const made = new Map(beneath);
  for (const [key, value] of differing)
    if (value === undefined) made.delete(key);
    else made.set(key, value);
  return made;
}
