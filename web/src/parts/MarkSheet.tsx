import "./byHosts.css";

import { HStack, Input, Text } from "@chakra-ui/react";
import type { ColumnRegular } from "@revolist/react-datagrid";
import { useMemo, type ReactNode } from "react";

import { inLetters } from "../model/said";
import { Grid, type Heard } from "./Grid";

/** What a letter says in which the server tells a cell. */
export interface Mark {
  letter: string;
  mark: string;
  word: string;
  tone: "good" | "some" | "bad" | "quiet";
  says: string;
}

/** What each letter says; one that isn't known says the last. */
export function marksBy(all: readonly Mark[]): (letter: string) => Mark {
  const byLetter = new Map(all.map((mark) => [mark.letter, mark]));
  return (letter) => byLetter.get(letter) ?? all.at(-1)!;
}

/** How many there are of each mark, in the order of the marks; letters that have none aren't counted. */
export function countedBy(all: readonly Mark[], letters: Iterable<string>): string {
  const counts = new Map<string, number>();
  for (const letter of letters) counts.set(letter, (counts.get(letter) ?? 0) + 1);
  return all
    .flatMap(({ letter, word }) => (counts.has(letter) ? [`${counts.get(letter)!.toLocaleString("en")} ${word}`] : []))
    .join(", ");
}

export interface MarkRow {
  id: string;
  name: string;
}

/** A column of marks: its place in the rows' letters, its head, and its name in full. */
export interface MarkColumn {
  at: number;
  head: string;
  name: string;
}

/** What a cell shows: a mark, what that says, and the classes beside. */
export interface Shown {
  mark: string;
  says: string;
  classes: Record<string, boolean>;
}

/** A field above a sheet of marks that leaves those with some words. */
export const WordsField = ({ label, value, put }: { label: string; value: string; put: (value: string) => void }) => (
  <HStack as="label" gap="1.5" fontSize="13px">
    {label}
    <Input size="xs" width="130px" value={value} onChange={(event) => put(event.target.value)} />
  </HStack>
);

/** A sheet of marks: what can be chosen above it, what the marks say, rows by columns, and the cell that is picked. */
export function MarkSheet<Row extends MarkRow>({
  label,
  filters,
  legend,
  before,
  after,
  pinned,
  columns,
  rows,
  empty,
  shown,
  pick,
  enter,
  leave,
  aside,
  children,
}: {
  label: string;
  filters: ReactNode;
  legend: readonly Mark[];
  /** What the legend says before the marks, and after them. */
  before?: ReactNode;
  after?: ReactNode;
  /** The columns that stay where they are. */
  pinned: ColumnRegular[];
  columns: MarkColumn[];
  rows: Row[];
  /** What is said in place of an empty sheet. */
  empty: string;
  /** The same function for as long as it says the same. */
  shown: (row: Row, at: number) => Shown;
  /** A cell is picked, by its row and its place; null: one that stands for nothing. */
  pick: (row: string, at: number | null) => void;
  /** Enter is pressed on a cell; whether that did anything. */
  enter: () => boolean;
  leave: () => void;
  aside?: ReactNode;
  /** The cell that is picked, in words. */
  children: ReactNode;
}) {
  const all = useMemo<ColumnRegular[]>(() => {
    const drawn = ({ model, prop }: { model: Row; prop: string | number }): Shown =>
      shown(model, Number(String(prop).slice(1)));
    return [
      ...pinned,
      ...columns.map(({ at, head, name }): ColumnRegular => ({
        prop: `m${at}`,
        name: inLetters(head, 14),
        size: 30,
        readonly: true,
        columnProperties: () => ({ title: name, "aria-label": name, class: "by-hosts-head" }),
        cellProperties: (cell) => {
          const { says, classes } = drawn(cell as never);
          return { class: classes, "aria-label": says };
        },
        cellTemplate: (h, cell) => h("span", { "aria-hidden": "true" }, drawn(cell as never).mark),
      })),
    ];
  }, [pinned, columns, shown]);
  const focused: Heard = (event) => {
    const { detail } = event as CustomEvent<{ model?: Row; column?: { prop: string } }>;
    const at = /^m(\d+)$/.exec(String(detail.column?.prop))?.[1];
    pick(detail.model?.id ?? "", detail.model && at !== undefined ? Number(at) : null);
  };
  const entered: Heard = (event) => {
    if ((event as KeyboardEvent).key !== "Enter" || !enter()) return;
    event.preventDefault();
    event.stopPropagation();
  };
  return (
    <div className="by-hosts">
      <HStack gap="3" px="3" py="1.5" wrap="wrap">
        {filters}
      </HStack>
      <HStack as="ul" aria-label="What the marks say" gap="3" px="3" pb="1.5" wrap="wrap" className="by-hosts-legend">
        {before}
        {legend
          .filter(({ mark }) => mark)
          .map(({ letter, mark, word, tone, says }) => (
            <li key={letter} title={says}>
              <span className={`by-hosts-${tone}`} aria-hidden>
                {mark}
              </span>{" "}
              {word}
            </li>
          ))}
        {after}
      </HStack>
      <div className="by-hosts-body">
        <div className="by-hosts-main">
          <div className="by-hosts-sheet">
            {rows.length === 0 || columns.length === 0 ? (
              <Text p="4" color="fg.muted">
                {empty}
              </Text>
            ) : (
              <Grid
                label={label}
                columns={all}
                source={rows}
                rowSize={24}
                readonly
                on={{ afterfocus: focused, keydown: entered }}
              />
            )}
          </div>
          {columns.length > 0 && (
            <section
              className="by-hosts-cell"
              aria-label="The cell"
              aria-live="polite"
              onKeyDown={(event) => event.key === "Escape" && leave()}
            >
              {children}
            </section>
          )}
        </div>
        {aside}
      </div>
    </div>
  );
}
