import { useVirtualizer } from "@tanstack/react-virtual";
import { Ear as EarMark } from "lucide-react";
import { useRef, useState, type KeyboardEvent, type ReactNode } from "react";
import { Link } from "react-router";

import { usePlan } from "../api/plan";
import { MARKS, type Mark } from "../model/verdicts";
import { VerdictMark } from "../parts/VerdictMark";
import { knotKey, nameOf, type Hidden, type Row } from "./rows";

const [ROW, STEP] = [26, 18];

/** A segment's strand from the fabric down to its guests, drawn line by line. */
export function Tree({
  label,
  rows,
  color,
  fold,
  mark,
}: {
  label: string;
  rows: readonly Row[];
  color: string;
  /** Fold a line, or unfold it. */
  fold: (key: string, folded: boolean) => void;
  mark: (id: string) => Mark | undefined;
}) {
  const scroller = useRef<HTMLDivElement>(null);
  const [focused, setFocused] = useState(0);
  const at = Math.min(focused, rows.length - 1);
  const virtual = useVirtualizer({
    count: rows.length,
    getScrollElement: () => scroller.current,
    estimateSize: () => ROW,
    overscan: 16,
  });
  const go = (to: number): void => {
    const next = Math.max(0, Math.min(rows.length - 1, to));
    setFocused(next);
    virtual.scrollToIndex(next);
  };
  const onKeyDown = (event: KeyboardEvent): void => {
    const row = rows[at];
    if (!row || event.ctrlKey || event.metaKey || event.altKey) return;
    const knot = row.what.is === "knot" ? row.what : null;
    const above = rows.slice(0, at).findLastIndex((other) => other.depth < row.depth);
    const moves: Record<string, () => void> = {
      ArrowDown: () => go(at + 1),
      ArrowUp: () => go(at - 1),
      PageDown: () => go(at + 20),
      PageUp: () => go(at - 20),
      Home: () => go(0),
      End: () => go(rows.length - 1),
      ArrowRight: () => (knot?.hides ? fold(knotKey(knot.knot), false) : go(at + 1)),
      ArrowLeft: () => (knot?.holds && !knot.hides ? fold(knotKey(knot.knot), true) : above >= 0 && go(above)),
      Enter: () => scroller.current?.querySelector<HTMLElement>(`[data-row="${at}"] a`)?.click(),
    };
    const move = moves[event.key];
    if (!move) return;
    event.preventDefault();
    move();
  };
  return (
    <div
      ref={scroller}
      className="strand-tree"
      role="tree"
      aria-label={label}
      tabIndex={0}
      aria-activedescendant={rows.length ? `knot-${at}` : undefined}
      onKeyDown={onKeyDown}
    >
      <div role="presentation" style={{ height: virtual.getTotalSize(), position: "relative" }}>
        {virtual.getVirtualItems().map((item) => {
          const row = rows[item.index]!;
          const knot = row.what.is === "knot" ? row.what : null;
          return (
            <div
              key={row.key}
              id={`knot-${item.index}`}
              data-row={item.index}
              role="treeitem"
              aria-level={row.depth + 1}
              aria-expanded={knot?.holds ? !knot.hides : undefined}
              aria-selected={item.index === at}
              className={`strand-row ${row.what.is} ${row.state || "carries"}`}
              style={{ transform: `translateY(${item.start}px)`, height: ROW }}
              onClick={() => setFocused(item.index)}
            >
              <Gutter row={row} color={color} />
              {knot?.holds && (
                <button
                  type="button"
                  className="strand-fold"
                  tabIndex={-1}
                  aria-label={knot.hides ? "Unfold" : "Fold"}
                  onClick={() => fold(knotKey(knot.knot), !knot.hides)}
                >
                  {knot.hides ? "+" : "−"}
                </button>
              )}
              <Told row={row} mark={mark} />
            </div>
          );
        })}
      </div>
    </div>
  );
}

/** The lines that lead to a row. */
function Gutter({ row, color }: { row: Row; color: string }) {
  const x = (depth: number): number => depth * STEP - STEP / 2;
  const ends = row.what.is === "break";
  const stroke = ends ? "var(--v-exposed)" : row.what.is === "ear" ? "var(--v-risk)" : color;
  const dash = row.state === "carries" || row.state === "" ? undefined : "4 3";
  const wide = dash ? 1.6 : 2.6;
  return (
    <svg width={row.depth * STEP} height={ROW} aria-hidden style={{ flex: "none" }}>
      {row.guides.map((runs, d) =>
        runs ? <path key={d} d={`M${x(d + 1)} 0V${ROW}`} stroke={color} strokeWidth="1.6" opacity="0.75" /> : null,
      )}
      {row.depth > 0 && (
        <>
          {row.runsOn && (
            <path d={`M${x(row.depth)} 0V${ROW}`} stroke={color} strokeWidth="1.6" opacity="0.75" fill="none" />
          )}
          <path
            d={`M${x(row.depth)} 0V${ROW / 2 - 5}q0 5 5 5H${row.depth * STEP}`}
            fill="none"
            stroke={stroke}
            strokeWidth={wide}
            strokeDasharray={dash}
          />
        </>
      )}
    </svg>
  );
}

/** What a row says. */
function Told({ row, mark }: { row: Row; mark: (id: string) => Mark | undefined }) {
  const { book, base, snapshot } = usePlan();
  const { what } = row;
  const link = (id: string, text: ReactNode): ReactNode => (
    <Link className="strand-link" tabIndex={-1} to={`${base}/decks?at=${encodeURIComponent(id)}`}>
      {text}
    </Link>
  );
  if (what.is === "break")
    return (
      <span className="strand-said broken" title={what.text}>
        ✕ {what.text}
      </span>
    );
  if (what.is === "ear") {
    const cable = what.ear.how === "tap" ? book.far.get(what.ear.at)?.cable : undefined;
    return (
      <span className="strand-said heard" title={what.ear.text}>
        <EarMark size={13} aria-label="could be overheard" />{" "}
        {what.ear.how === "tap" && `${nameOf(book, snapshot.endpoints, what.ear.at)}: `}
        {cable ? (
          <Link className="strand-link" tabIndex={-1} to={`${base}/strand?cable=${encodeURIComponent(cable)}`}>
            {what.ear.text}
          </Link>
        ) : (
          link(what.ear.at, what.ear.text)
        )}
      </span>
    );
  }
  const { knot, hides } = what;
  const last = knot.records.at(-1)!;
  const verdict = mark(last);
  const cable = knot.records.length > 1 ? book.far.get(knot.records[0]!)?.cable : undefined;
  const belongs = book.get("segment", snapshot.endpoints.get(last)?.tags[0]?.belongs)?.name;
  const names = knot.records.map((id) => nameOf(book, snapshot.endpoints, id));
  return (
    <span className="strand-said" title={names.join(" – ")}>
      {verdict && <VerdictMark mark={verdict} title={verdict} />}
      {knot.records.map((id, n) => (
        <span key={id} className={book.get("fabric_switch", id) ? "strand-switch" : undefined}>
          {n > 0 && <span className="strand-to"> – </span>}
          {link(id, names[n])}
        </span>
      ))}
      {book.get("fabric_switch", last)?.site && <em>{book.get("fabric_switch", last)!.site}</em>}
      {row.state === "reserve" && <em>in reserve</em>}
      {row.state === "dropped" && <em className="broken">cut off</em>}
      {knot.again && <em>drawn elsewhere too</em>}
      {knot.foreign && <em className="heard">{belongs ? `belongs on ${belongs}` : "doesn’t belong here"}</em>}
      {hides && <Hides hides={hides} />}
      {cable && (
        <Link
          className="strand-link strand-cable"
          tabIndex={-1}
          title="This cable alone: what it carries, and who needs it"
          to={`${base}/strand?cable=${encodeURIComponent(cable)}`}
        >
          cable
        </Link>
      )}
    </span>
  );
}

const Hides = ({ hides }: { hides: Hidden }) => (
  <em className="strand-hides">
    {MARKS.filter((m) => hides.marks[m]).map((m) => (
      <span key={m}>
        <VerdictMark mark={m} title={m} /> {hides.marks[m]}
      </span>
    ))}
    {hides.breaks > 0 && <span className="broken">✕ {hides.breaks}</span>}
    {hides.ears > 0 && (
      <span className="heard">
        <EarMark size={12} aria-label="could be overheard" /> {hides.ears}
      </span>
    )}
  </em>
);
