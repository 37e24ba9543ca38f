import { Button, IconButton, SegmentGroup } from "@chakra-ui/react";
import { Download } from "lucide-react";
import { memo, useCallback, useEffect, useMemo, useRef, type CSSProperties } from "react";

import { segmentStyle } from "../model/records";
import { QueryBox } from "../parts/QueryBox";
import { matching, SearchBox, type Choice } from "../parts/SearchBox";
import type { Following } from "./useFollow";

/** How close one looks: every host a mark, hosts with their guests gathered, or every part of each. */
export type Level = "fleet" | "hosts" | "host";

const LEVELS: readonly [Level, string, string][] = [
  ["fleet", "Fleet", "Every host a mark, by site and rack (− goes farther, as do Ctrl and the wheel)"],
  ["hosts", "Hosts", "Switches, NICs and fabric, guests gathered under their port groups"],
  ["host", "Guests", "Every guest and adapter of each host (+ goes nearer, as do Ctrl and the wheel)"],
];

/** As many hosts are drawn at once. */
export const MOST_DRAWN = 60;

/** So many segments are seen at a glance; among more, one is found by typing. */
const FEW = 8;

const tagOf = (segment: Following["segments"][number]): string =>
  String(segment.vid ?? (segment.vni ? `VNI ${segment.vni}` : "untagged"));

function choiceOf(segment: Following["segments"][number]): Choice {
  const detail = [tagOf(segment), segment.role, ...(segment.subnets ?? [])].filter(Boolean).join("  ");
  return { value: segment.id, label: segment.name, detail, text: `${segment.name} ${detail}`.toLowerCase() };
}

/**
 * The segments, of which one is followed; what can be added; and, where there are many hosts, which of them are shown.
 */
export const FollowBar = memo(function FollowBar({
  following: { segments, follow, setFollow },
  adding,
  add,
  hosts,
  filter,
  setFilter,
  level,
  setLevel,
  widths,
  setWidths,
  drawing,
}: {
  following: Following;
  adding: boolean;
  add: () => void;
  hosts: number;
  filter: string;
  setFilter: (filter: string) => void;
  level: Level;
  setLevel: (level: Level) => void;
  /** Whether cables are as wide as they are full; null where nobody sends or none is seen. */
  widths: boolean | null;
  setWidths: (on: boolean) => void;
  /** Where the hosts in sight are as a drawing; null where they are too many for one. */
  drawing: string | null;
}) {
  const choices = useMemo(() => segments.map(choiceOf), [segments]);
  const find = useCallback((typed: string) => matching(choices, typed), [choices]);
  const take = useCallback((id: string) => setFollow(id || null), [setFollow]);
  const chips = useRef<HTMLDivElement>(null);
  useEffect(() => {
    const pressed = chips.current?.querySelector<HTMLElement>('[aria-pressed="true"]');
    if (pressed && chips.current)
      chips.current.scrollLeft = Math.max(
        0,
        pressed.offsetLeft - chips.current.offsetLeft - chips.current.clientWidth / 2 + pressed.offsetWidth / 2,
      );
  }, [follow?.id]);
  return (
    <div className="follow" role="toolbar" aria-label="Follow a segment">
      {segments.length > FEW ? (
        <SearchBox
          label="Follow"
          value={follow?.id ?? ""}
          said={follow ? follow.name : ""}
          find={find}
          put={take}
          placeholder="a segment, its VID, subnet"
          empty="No segment by that name, VID or subnet."
          width="250px"
          size="xs"
        />
      ) : (
        <span className="follow-label">Follow</span>
      )}
      <div className="chips" ref={chips}>
        {segments.map((segment, n) => {
          const { color, dash } = segmentStyle(n);
          const on = follow?.id === segment.id;
          return (
            <button
              key={segment.id}
              type="button"
              className="chip"
              aria-pressed={on}
              style={{ "--seg": color } as CSSProperties}
              onClick={() => setFollow(on ? null : segment.id)}
            >
              <svg width="13" height="6" aria-hidden>
                <path d="M0 3h13" stroke={color} strokeWidth="3" strokeDasharray={dash} />
              </svg>
              {segment.name}
              <span className="mono">{tagOf(segment)}</span>
            </button>
          );
        })}
      </div>
      <button
        type="button"
        className="chip add"
        aria-expanded={adding}
        title="A host, a fabric switch, a segment"
        onClick={add}
      >
        + Add
      </button>
      {hosts > 6 && (
        <QueryBox
          label="Filter hosts by name or site"
          width="170px"
          placeholder="Filter hosts"
          value={filter}
          put={setFilter}
        />
      )}
      {widths !== null && (
        <Button
          size="xs"
          variant={widths ? "solid" : "outline"}
          aria-pressed={widths}
          title="Cables as wide as they are full by what flows send"
          onClick={() => setWidths(!widths)}
        >
          Load
        </Button>
      )}
      <SegmentGroup.Root
        size="xs"
        value={level}
        aria-label="How close"
        onValueChange={({ value }) => setLevel(value as Level)}
      >
        <SegmentGroup.Indicator bg="copper.soft" />
        {LEVELS.map(([value, label, title]) => (
          <SegmentGroup.Item key={value} value={value} title={title}>
            <SegmentGroup.ItemText>{label}</SegmentGroup.ItemText>
            <SegmentGroup.ItemHiddenInput />
          </SegmentGroup.Item>
        ))}
      </SegmentGroup.Root>
      <IconButton
        size="xs"
        variant="outline"
        asChild={drawing !== null}
        disabled={drawing === null}
        aria-label="Save as SVG"
        title={drawing ? "Save the hosts in sight as a drawing (SVG)" : `Filter to ${MOST_DRAWN} hosts to save them`}
      >
        {drawing === null ? (
          <Download size={14} />
        ) : (
          <a href={drawing} download>
            <Download size={14} />
          </a>
        )}
      </IconButton>
    </div>
  );
});
