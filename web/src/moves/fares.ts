import { countedBy, marksBy, type Mark } from "../parts/MarkSheet";

/** How a guest would fare on a host, by the letters in which the server tells it. */
export const FARES: readonly Mark[] = [
  {
    letter: "r",
    mark: "●",
    word: "runs there",
    tone: "good",
    says: "it lands there as it should, and goes while running",
  },
  {
    letter: "c",
    mark: "○",
    word: "switched off alone",
    tone: "good",
    says: "it would run there; no migration network",
  },
  { letter: "l", mark: "◐", word: "with something less", tone: "some", says: "it would run there and miss something" },
  { letter: "u", mark: "◌", word: "unproven", tone: "quiet", says: "the plan doesn’t say what is behind a way" },
  { letter: "?", mark: "?", word: "not asked", tone: "quiet", says: "it needs a question of its own: try the move" },
  {
    letter: "x",
    mark: "▲",
    word: "not there",
    tone: "bad",
    says: "it would be cut off, astray or exposed, or finds no place",
  },
];

export const fareOf = marksBy(FARES);

/** How many of a row or column fare how. */
export const tallied = (letters: Iterable<string>): string => countedBy(FARES, letters);
