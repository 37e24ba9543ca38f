import type { Mark } from "./verdicts";

/** Our own words, each in one sentence: shown where the word stands. */
export const GLOSSARY: Record<Mark | "draft", string> = {
  home: "Lands where it belongs, reaches what it must and meets nothing that it must not, whichever uplink carries it.",
  unproven: "The plan doesn’t say what is behind a NIC or port on its way, so nobody can know.",
  wavering: "Right over some team members or ways, and wrong over others: it works until a failover.",
  stranded: "On the right tag, but cut off from its gateway or peers somewhere on the way.",
  astray: "Lands on another segment than its own, or on none that the plan knows.",
  exposed: "Meets something that a rule keeps it from.",
  risk: "Nobody suffers yet, but somebody will.",
  untidy: "Harms nobody, and makes the plan harder to read.",
  draft: "A branch of the plan with revisions of its own, which lands as one revision of it or is dropped.",
  idle: "Disconnected, or its guest is off; judged as if it were on, and counted apart.",
};
