import { countedBy, marksBy, type Mark } from "../parts/MarkSheet";

/** How two segments stand to each other, by the letters in which the server tells it. */
export const MEETINGS: readonly Mark[] = [
  {
    letter: "m",
    mark: "▲",
    word: "meets",
    tone: "bad",
    says: "somebody of one hears somebody of the other on layer 2",
  },
  { letter: "b", mark: "⇄", word: "reaches", tone: "some", says: "packets get there over routers, and others back" },
  { letter: ">", mark: "→", word: "reaches, one way", tone: "some", says: "packets get there over routers, none back" },
  { letter: "<", mark: "←", word: "is reached, one way", tone: "some", says: "packets come from there, none go" },
  { letter: "?", mark: "◌", word: "unproven", tone: "quiet", says: "the plan leaves open whether anything gets there" },
  { letter: ".", mark: "·", word: "apart", tone: "quiet", says: "neither meets nor reaches, in any state" },
  { letter: "-", mark: "", word: "nobody there", tone: "quiet", says: "nobody is on one of them" },
];

/** What rules expect of two segments. */
export const EXPECTED: Readonly<Record<string, string>> = {
  a: "a rule keeps them apart",
  "2": "a rule keeps them apart on layer 2",
  r: "a rule lets one reach the other",
};

export const meetingOf = marksBy(MEETINGS);

/** How many of a row stand how; where nobody is counts for nothing. */
export const counted = (letters: Iterable<string>): string =>
  countedBy(
    MEETINGS,
    [...letters].filter((letter) => letter !== "-"),
  );
