import { useEffect, useRef, type CSSProperties } from "react";

import { segmentStyle } from "../model/records";
import type { Following } from "./useFollow";

/**
 * The segments, of which one is followed; what can be added; and, where there are many hosts, which of them are shown.
 */
export function FollowBar({
  following: { segments, follow, setFollow },
  adding,
  add,
  hosts,
  filter,
  setFilter,
}: {
  following: Following;
  adding: boolean;
  add: () => void;
  hosts: number;
  filter: string;
  setFilter: (filter: string) => void;
}) {
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
      <span className="follow-label">Follow</span>
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
              <span className="mono">{segment.vid ?? (segment.vni ? `VNI ${segment.vni}` : "untagged")}</span>
            </button>
          );
        })}
      </div>
      <button
        type="button"
        className="chip add"
        aria-expanded={adding}
        title="A host, a fabric switch, a segment, a rule"
        onClick={add}
      >
        + Add
      </button>
      {hosts > 6 && (
        <input
          className="host-filter"
          placeholder="Filter hosts"
          aria-label="Filter hosts by name or site"
          value={filter}
          onChange={(e) => setFilter(e.target.value)}
        />
      )}
    </div>
  );
}
