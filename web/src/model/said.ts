/** A moment as lists tell it: day and time. */
export const moment = (at: string): string =>
  new Date(at).toLocaleString("en-GB", { dateStyle: "medium", timeStyle: "short" });

/** Somebody by name, who may not be there any more. */
export const somebody = (name: string | null): string => name ?? "somebody who is gone";
