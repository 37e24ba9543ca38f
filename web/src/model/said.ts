/** A name in so many letters: a longer one loses its middle, since what tells names apart often stands at their end. */
export function inLetters(name: string, most: number): string {
  const letters = [...name];
  const head = Math.ceil((most - 1) / 2);
  if (letters.length <= most) return name;
  return `${letters.slice(0, head).join("")}…${letters.slice(head + 1 - most).join("")}`;
}

/** A moment as lists tell it: day and time. */
export const moment = (at: string): string =>
  new Date(at).toLocaleString("en-GB", { dateStyle: "medium", timeStyle: "short" });

/** Somebody by name, who may not be there any more. */
export const somebody = (name: string | null): string => name ?? "somebody who is gone";
