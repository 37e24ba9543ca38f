import { useState } from "react";

import { shown, type Draft, type FieldSpec } from "./fields";

/**
 * A field that is being changed here and was saved otherwise meanwhile: what stands in the form, and what in the
 * plan.
 */
export interface Clash {
  field: FieldSpec;
  mine: unknown;
  theirs: unknown;
}

export interface Drafting {
  draft: Draft;
  put: (name: string, value: unknown) => void;
  clashes: Clash[];
  /** The labels of the fields that somebody changed while the form was open, and that follow. */
  followed: string[];
  /** Leave a clash behind: with the form's value, or with the plan's. */
  settle: (clash: Clash, mine: boolean) => void;
}

const same = (a: unknown, b: unknown): boolean => JSON.stringify(a) === JSON.stringify(b);

/**
 * What stands in a form's fields, held against a record that others may change meanwhile: a field that nobody touched
 * here follows the plan, one that was touched on both sides clashes until somebody says which value is meant.
 */
export function useDraft(fields: FieldSpec[], record: Draft): Drafting {
  const held = Object.fromEntries(fields.map((f) => [f.name, shown(f, record[f.name])]));
  const [draft, setDraft] = useState<Draft>(held);
  const [seen, setSeen] = useState<Draft>(held);
  const [followed, setFollowed] = useState<string[]>([]);
  const clashes: Clash[] = [];
  const following: FieldSpec[] = [];
  for (const field of fields) {
    const { name } = field;
    if (!(name in seen) || same(held[name], seen[name])) continue;
    if (same(draft[name], seen[name]) || same(draft[name], held[name])) following.push(field);
    else clashes.push({ field, mine: draft[name], theirs: held[name] });
  }
  if (following.length) {
    const news = Object.fromEntries(following.map(({ name }) => [name, held[name]]));
    setDraft({ ...draft, ...news });
    setSeen({ ...seen, ...news });
    setFollowed([...new Set([...followed, ...following.map((f) => f.label)])]);
  }
  return {
    draft,
    clashes,
    followed,
    put: (name, value) => setDraft((now) => ({ ...now, [name]: value })),
    settle: ({ field, theirs }, mine) => {
      setSeen((now) => ({ ...now, [field.name]: theirs }));
      if (!mine) setDraft((now) => ({ ...now, [field.name]: theirs }));
    },
  };
}
