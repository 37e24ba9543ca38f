import { useMemo, useState } from "react";

import { useLocation } from "react-router";

import { usePlan } from "../api/plan";
import { namesakes } from "./Many";

/** The records that are picked to be changed together, and how to pick one (or all of its name) or let it go. */
export function usePicks(): {
  picked: readonly string[];
  setPicks: (picks: readonly string[]) => void;
  pick: (record: string, all: boolean) => void;
} {
  const { book } = usePlan();
  // Another view may have picked some.
  const { state } = useLocation() as { state: { picks?: readonly string[] } | null };
  const [picks, setPicks] = useState<readonly string[]>(state?.picks ?? []);
  const picked = useMemo(() => picks.filter((id) => book.byId.has(id)), [picks, book]);
  const pick = (record: string, all: boolean): void => {
    // A record of another kind begins anew.
    const kind = book.byId.get(record)?.kind;
    setPicks((now) => {
      const kept = now.filter((id) => book.byId.get(id)?.kind === kind);
      const more = all ? namesakes(book, [record]) : [record];
      return !all && kept.includes(record) ? kept.filter((id) => id !== record) : [...new Set([...kept, ...more])];
    });
  };
  return { picked, setPicks, pick };
}
