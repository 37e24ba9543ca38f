import { countedBy, marksBy, type Mark } from "../parts/MarkSheet";

/** How a host stands to a segment, by the letters in which the server tells it. */
export const STATES: readonly Mark[] = [
  { letter: "c", mark: "●", word: "carried", tone: "good", says: "offered there, and carried over every way" },
  { letter: "s", mark: "◐", word: "over some", tone: "some", says: "offered there, and carried over some ways only" },
  { letter: "x", mark: "▲", word: "cut off", tone: "bad", says: "offered there, and carried over none of its ways" },
  {
    letter: "u",
    mark: "◌",
    word: "unproven",
    tone: "quiet",
    says: "offered there, and nobody said where its ways lead",
  },
  { letter: "l", mark: "▪", word: "local", tone: "quiet", says: "offered on a switch that has no way out" },
  {
    letter: "r",
    mark: "+",
    word: "ready",
    tone: "quiet",
    says: "not offered, and every way of a switch would carry it",
  },
  {
    letter: "q",
    mark: "±",
    word: "half ready",
    tone: "quiet",
    says: "not offered, and some ways of a switch would carry it",
  },
  { letter: ".", mark: "", word: "absent", tone: "quiet", says: "not offered, and no way carries it" },
];

const markOf = marksBy(STATES);

/** The state that a letter tells, and whether the host is off a pattern there. */
export function stateOf(letter: string): { state: Mark; off: boolean } {
  const plain = letter === "-" ? "." : letter.toLowerCase();
  return { state: markOf(plain), off: plain !== letter };
}

/** How many of a row or column have each state, in the order of the states; those off a pattern last. */
export function tally(letters: Iterable<string>): string {
  const drawn = [...letters].map(stateOf);
  const offs = drawn.filter(({ off }) => off).length;
  const told = countedBy(
    STATES,
    drawn.map(({ state }) => state.letter),
  );
  return [told, offs ? `${offs} off pattern` : ""].filter(Boolean).join(", ");
}
