import type { RuleRead } from "../api/client";
import { compareNames, type Book } from "../model/records";

/** What may be put into a sentence in place of the word that is being typed. */
export interface Suggestion {
  /** As it stands in the sentence. */
  value: string;
  /** What it is: a word of the language, or the sort of a name. */
  what: string;
}

const SORTS = ["segment", "role", "guest", "station", "host", "adapter", "outside"] as const;
type Sort = (typeof SORTS)[number];

/** As many are offered as somebody might read. */
const MOST = 12;

/** The names that a rule may speak of, by sort. */
export function namesOf(book: Book): Record<Sort, string[]> {
  const { segment, guest, station, host, host_port, outside } = book.records;
  const all = (records: readonly { name: string }[]): string[] =>
    [...new Set(records.map((r) => r.name))].sort(compareNames);
  const roles = [...segment.flatMap((s) => s.role || []), ...host_port.flatMap((p) => p.services ?? [])];
  return {
    segment: all(segment),
    role: [...new Set(roles)].sort(compareNames),
    guest: all(guest),
    station: all(station),
    host: all(host),
    outside: all(outside),
    adapter: book.records.adapter
      .map((a) => `${book.get("host", book.get("guest", a.guest)?.host)?.name ?? ""}/${a.name}`)
      .sort(compareNames),
  };
}

/** A name as it stands in a sentence: within quotes where it has blanks, commas or quotes in it. */
export const quoted = (name: string): string => (/[\s",]/.test(name) ? `"${name.replaceAll('"', '""')}"` : name);

/**
 * Where the word begins that is being typed up to a place of a sentence: at a quote that isn’t closed, or behind the
 * last blank.
 */
export function wordStart(text: string, at: number): number {
  const before = text.slice(0, at);
  if ((before.split('"').length - 1) % 2 === 1) return before.lastIndexOf('"');
  return before.search(/[^\s,]*$/);
}

/** What could stand in place of the word that is being typed. */
export function suggestions(
  read: RuleRead | undefined,
  names: Record<Sort, string[]>,
  text: string,
  at: number,
): Suggestion[] {
  if (!read) return [];
  const start = wordStart(text, at);
  const typed = text.slice(start, at).replaceAll('"', "").toLowerCase();
  const fits = (word: string): boolean => word.toLowerCase().startsWith(typed) && word.toLowerCase() !== typed;
  const before = text.slice(0, start).trim().split(/\s+/).at(-1) ?? "";
  const one = SORTS.find((sort) => sort === before);
  const words = read.could.filter((word) => /^[a-z0-9]+$/i.test(word) && fits(word));
  const named = !read.names
    ? []
    : (one ? [one] : SORTS.filter((sort) => sort !== "role" && sort !== "adapter")).flatMap((sort) =>
        names[sort].filter(fits).map((name) => ({ value: quoted(name), what: sort })),
      );
  const listed = words.map((word) => ({ value: word, what: "word" }));
  // Whoever has begun a name wants to finish it; before that, the words say how a sentence may go on.
  return (typed ? [...named.slice(0, MOST - 3), ...listed] : [...listed, ...named]).slice(0, MOST);
}
