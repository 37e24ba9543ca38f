import { Button, HStack, Text } from "@chakra-ui/react";
import { useMemo, useRef, useState, type FormEvent, type PointerEvent } from "react";

import { usePlan } from "../api/plan";
import { freshId, put } from "../decks/making";
import { TextLine } from "../parts/controls";
import { holders, vidsIn } from "./marks";

const ACROSS = 512;
const ROWS = 8;
const HIGH = 9;

/** The 4,094 VIDs, eight rows of 512: taken, free, doubled, kept; a drag keeps some. */
export function Ribbon() {
  const { book, edit } = usePlan();
  const held = useMemo(() => holders(book.records), [book.records]);
  const [drag, setDrag] = useState<[number, number] | null>(null);
  const [over, setOver] = useState<number | null>(null);
  const [vids, setVids] = useState("");
  const [name, setName] = useState("");
  const drawing = useRef<SVGSVGElement>(null);
  const form = useRef<HTMLInputElement>(null);
  const at = (event: PointerEvent): number => {
    const box = drawing.current!.getBoundingClientRect();
    const column = Math.floor(((event.clientX - box.left) / box.width) * ACROSS);
    const row = Math.floor(((event.clientY - box.top) / box.height) * ROWS);
    return Math.min(4094, Math.max(1, row * ACROSS + Math.min(ACROSS - 1, Math.max(0, column))));
  };
  const chosen = drag && ([Math.min(...drag), Math.max(...drag)] as const);
  const runs = useMemo(() => runsOf(held), [held]);
  const doubled = [...held.values()].filter(({ segments }) => segments.length > 1).length;
  const taken = [...held.values()].filter(({ segments }) => segments.length).length;
  const told = over === null ? undefined : held.get(over);
  const typed = [...vidsIn(vids)];
  const right = typed.length > 0 && typed.every((vid) => vid >= 1 && vid <= 4094);
  const keep = (event: FormEvent): void => {
    event.preventDefault();
    if (!right || !name.trim()) return;
    const id = freshId(book, `reservation-${name.trim()}`);
    void edit(`Keep VID ${vids} for ${name.trim()}`, [put("reservation", { id, name: name.trim(), vids })]).then(
      (made) => {
        if (!made) return;
        setVids("");
        setName("");
        setDrag(null);
      },
    );
  };
  return (
    <section aria-label="VIDs" className="ribbon">
      <div className="ribbon-drawn">
        <div className="ribbon-starts mono" aria-hidden>
          {Array.from({ length: ROWS }, (_, row) => (
            <span key={row}>{row * ACROSS || 1}</span>
          ))}
        </div>
        <svg
          ref={drawing}
          viewBox={`0 0 ${ACROSS} ${ROWS * HIGH}`}
          preserveAspectRatio="none"
          role="img"
          aria-label={`VIDs: ${taken} taken, ${4094 - held.size} free, ${doubled} doubled`}
          onPointerDown={(event) => {
            event.currentTarget.setPointerCapture(event.pointerId);
            setDrag([at(event), at(event)]);
          }}
          onPointerMove={(event) => {
            const vid = at(event);
            setOver(vid);
            if (drag && event.buttons) setDrag([drag[0], vid]);
          }}
          onPointerLeave={() => setOver(null)}
          onPointerUp={() => {
            if (!chosen) return;
            setVids(chosen[0] === chosen[1] ? String(chosen[0]) : `${chosen[0]}-${chosen[1]}`);
            form.current?.focus();
          }}
        >
          {Array.from({ length: ROWS }, (_, row) => (
            <rect key={row} className="vid-free" y={row * HIGH} width={ACROSS} height={HIGH - 1} />
          ))}
          {runs.map(({ from, to, how }) =>
            cut(from, to).map((part) => <rect key={`${part.x} ${part.y}`} {...part} className={how} />),
          )}
          {chosen && cut(...chosen).map((part) => <rect key={`chosen ${part.y}`} {...part} className="vid-chosen" />)}
        </svg>
      </div>
      <HStack gap="4" wrap="wrap" minH="32px">
        <Text fontSize="12px" color="fg.muted" flex="1 1 220px">
          {over !== null && !(drag && vids)
            ? `VID ${over}: ${told ? [...told.segments, ...told.kept.map((k) => `kept for ${k}`)].join(", ") : "free"}`
            : `${taken} of 4,094 VIDs taken${doubled ? `, ${doubled} doubled` : ""}. Drag over some to keep them free.`}
        </Text>
        <form onSubmit={keep} className="ribbon-keep">
          <TextLine label="Keep VIDs" wide="64px" value={vids} put={setVids} hint="300-309" />
          <TextLine label="for" wide="20px" value={name} put={setName} hint="new terminal" plain hold={form} />
          <Button size="xs" variant="outline" type="submit" disabled={!right || !name.trim()}>
            Keep
          </Button>
        </form>
      </HStack>
    </section>
  );
}

/** Neighbouring VIDs that are held alike. */
function runsOf(held: ReturnType<typeof holders>): { from: number; to: number; how: string }[] {
  const made: { from: number; to: number; how: string }[] = [];
  for (const vid of [...held.keys()].sort((a, b) => a - b)) {
    const { segments } = held.get(vid)!;
    const how = segments.length > 1 ? "vid-doubled" : segments.length ? "vid-taken" : "vid-kept";
    const last = made.at(-1);
    if (last && last.to === vid - 1 && last.how === how) last.to = vid;
    else made.push({ from: vid, to: vid, how });
  }
  return made;
}

/** A run cut where a row ends. */
function cut(from: number, to: number): { x: number; y: number; width: number; height: number }[] {
  const made = [];
  for (let row = Math.floor(from / ACROSS); row <= Math.floor(to / ACROSS); row++) {
    const x = Math.max(from - row * ACROSS, 0);
    const end = Math.min(to - row * ACROSS, ACROSS - 1);
    made.push({ x, y: row * HIGH, width: end - x + 1, height: HIGH - 1 });
  }
  return made;
}
