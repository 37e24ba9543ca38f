/** How a host stands to a segment, by the letters in which the server tells it. */
export interface State {
  letter: string;
  mark: string;
  word: string;
  says: string;
}

export const STATES: readonly State[] = [
  { letter: "c", mark: "●", word: "carried", says: "offered there, and carried over every way" },
  { letter: "s", mark: "◐", word: "over some", says: "offered there, and carried over some ways only" },
  { letter: "x", mark: "▲", word: "cut off", says: "offered there, and carried over none of its ways" },
  { letter: "u", mark: "◌", word: "unproven", says: "offered there, and nobody said where its ways lead" },
  { letter: "l", mark: "▪", word: "local", says: "offered on a switch that has no way out" },
  { letter: "r", mark: "+", word: "ready", says: "not offered, and every way of a switch would carry it" },
  { letter: "q", mark: "±", word: "half ready", says: "not offered, and some ways of a switch would carry it" },
  { letter: ".", mark: "", word: "absent", says: "not offered, and no way carries it" },
];

const BY_LETTER = new Map(STATES.map((state) => [state.letter, state]));

/** The state that a letter tells, and whether the host is off a pattern there. */
export function stateOf(letter: string): { state: State; off: boolean } {
  const plain = letter === "-" ? "." : letter.toLowerCase();
  return { state: BY_LETTER.get(plain) ?? STATES.at(-1)!, off: plain !== letter };
}

/** How many of a row or column have each state, in the order of the states; those off a pattern last. */
export function tally(letters: Iterable<string>): string {
  const counts = new Map<string, number>();
  let offs = 0;
  for (const letter of letters) {
    const { state, off } = stateOf(letter);
    counts.set(state.word, (counts.get(state.word) ?? 0) + 1);
    if (off) offs++;
  }
  const told = STATES.flatMap(({ word }) => (counts.has(word) ? [`${counts.get(word)} ${word}`] : []));
  return [...told, ...(offs ? [`${offs} off pattern`] : [])].join(", ");
}
