import { useCallback, useEffect, useLayoutEffect, useMemo, useRef, type WheelEvent } from "react";
import { useSearchParams } from "react-router";

import type { Book } from "../model/records";
import { inPanel, isTyping, useSingleKeys } from "../shell/keys";
import type { Level } from "./FollowBar";

/** From far to near. */
const LEVELS: readonly Level[] = ["fleet", "hosts", "host"];

/** More hosts than these are seen from far at first. */
const MANY = 60;

/** A host with more guests than these is tall: they are gathered at first. */
const CROWD = 24;

/**
 * How close one looks: as the address says, else near, but where there are many hosts, or many guests on one, and
 * nothing is visited.
 */
export function useLevel(book: Book): {
  level: Level;
  setLevel: (level: Level) => void;
  /** Go near, to one host. */
  enter: (host: string) => void;
  onWheel: (event: WheelEvent) => void;
} {
  const [params, setParams] = useSearchParams();
  const said = params.get("level");
  const visiting = ["at", "see", "add", "beside"].some((name) => params.has(name));
  const many = book.records.host.length > MANY;
  const guests = many ? null : book.records.guest;
  const crowded = useMemo(() => {
    const counts = new Map<string, number>();
    for (const { host: on } of guests ?? []) counts.set(on, (counts.get(on) ?? 0) + 1);
    return [...counts.values()].some((count) => count > CROWD);
  }, [guests]);
  const usual = visiting ? "host" : many ? "fleet" : crowded ? "hosts" : "host";
  const level = LEVELS.find((known) => known === said) ?? usual;
  const setLevel = useCallback(
    (next: Level) =>
      setParams(
        (now) => {
          const made = new URLSearchParams(now);
          made.set("level", next);
          made.delete("at");
          return made;
        },
        { replace: true },
      ),
    [setParams],
  );
  const single = useSingleKeys();
  // A second key may come before what the first one did is drawn; and a key as soon as a level is in sight, which is
  // before an ordinary effect has run.
  const latest = useRef(level);
  useLayoutEffect(() => {
    latest.current = level;
  }, [level]);
  /** One level nearer, or farther. */
  const step = useCallback(
    (by: 1 | -1) => {
      const next = LEVELS[LEVELS.indexOf(latest.current) + by];
      if (!next) return;
      latest.current = next;
      setLevel(next);
    },
    [setLevel],
  );
  useEffect(() => {
    const onKey = (event: globalThis.KeyboardEvent): void => {
      if (!single || isTyping(event.target) || inPanel(event.target)) return;
      if (event.ctrlKey || event.metaKey || !["+", "-"].includes(event.key)) return;
      event.preventDefault();
      step(event.key === "-" ? -1 : 1);
    };
    window.addEventListener("keydown", onKey);
    return () => window.removeEventListener("keydown", onKey);
  }, [single, step]);
  const enter = useCallback(
    (host: string) =>
      setParams((now) => {
        const made = new URLSearchParams(now);
        made.set("level", "host");
        made.set("at", host);
        return made;
      }),
    [setParams],
  );
  // A wheel turns many times for one step.
  const turned = useRef(0);
  const onWheel = useCallback(
    (event: WheelEvent) => {
      if (!event.ctrlKey) return;
      turned.current =
        Math.sign(turned.current) === Math.sign(event.deltaY) ? turned.current + event.deltaY : event.deltaY;
      if (Math.abs(turned.current) < 100) return;
      step(turned.current > 0 ? -1 : 1);
      turned.current = 0;
    },
    [step],
  );
  return { level, setLevel, enter, onWheel };
}
