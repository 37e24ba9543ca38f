import type { Book } from "../model/records";
import type { MarkColumn } from "../parts/MarkSheet";

/** The hosts (ids) whose names have some words, as columns. */
export function hostColumns(book: Book, hosts: readonly string[], words: string): MarkColumn[] {
  const wanted = words.trim().toLowerCase();
  return hosts
    .map((host, at) => ({ at, name: book.get("host", host)?.name ?? host }))
    .filter(({ name }) => name.toLowerCase().includes(wanted))
    .map(({ at, name }) => ({ at, head: name, name }));
}
