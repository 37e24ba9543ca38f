import { usePlan } from "../api/plan";
import { readVid } from "../model/records";
import { useDraft } from "./draft";
import type { FieldSpec } from "./fields";
import type { Rect } from "./layout";
import { Keys, LinkButton, Told } from "../parts/controls";
import { Clashing, Outcome, usePreviews } from "./Panel";
import { place } from "./parts";
import { BUBBLE_WIDTH } from "./places";

const TAG: FieldSpec[] = [{ name: "vid", label: "Tag", kind: "vid" }];

/** The tag of a port group, typed over in its slot; what would move is said beneath. */
export function TagInPlace({
  id,
  rect,
  left,
  close,
  more,
}: {
  id: string;
  rect: Rect;
  left: number;
  close: () => void;
  more: () => void;
}) {
  const { book, edit, snapshot } = usePlan();
  const group = book.get("port_group", id);
  const { draft, put, clashes, followed, settle } = useDraft(TAG, { vid: group?.vid });
  const by = snapshot.authors.get(id) ?? "Somebody";
  const text = String(draft.vid);
  const vid = readVid(text);
  const fits = vid !== null;
  const changed = fits && vid !== group?.vid;
  const operations = [{ op: "patch" as const, kind: "port_group" as const, id, set: { vid } }];
  const { results, error } = usePreviews([operations], changed);
  if (!group) return null;
  return (
    <div onPointerDown={(e) => e.stopPropagation()}>
      <input
        className="tag-input mono"
        style={place(rect)}
        aria-label={`Tag of port group ${group.name}`}
        value={text}
        inputMode="numeric"
        autoFocus
        onFocus={(e) => e.target.select()}
        onChange={(e) => put("vid", e.target.value)}
        onKeyDown={(e) => {
          if (e.key === "Escape") close();
          if (e.key === "Enter" && !changed && fits && !clashes.length) close();
          if (e.key === "Enter" && changed && !clashes.length)
            void edit(`Tag port group ${group.name} ${vid}`, operations).then((made) => made && close());
        }}
      />
      <div className="bubble" style={{ left, top: rect.y + rect.h + 4, width: BUBBLE_WIDTH }} role="status">
        {clashes.map((clash) => (
          <Clashing key={clash.field.name} clash={clash} by={by} settle={(mine) => settle(clash, mine)} />
        ))}
        {followed.length > 0 && <Told tone="quiet">{by} changed it while it was open.</Told>}
        {!fits ? (
          <Told tone="bad">A VID is a number from 1 to 4094.</Told>
        ) : changed ? (
          <Outcome result={results?.[0]} error={error} />
        ) : (
          <Told>Type another VID.</Told>
        )}
        <Keys>{clashes.length ? "Say first which tag is meant; Esc leaves it" : "Enter takes it, Esc leaves it"}</Keys>
        <LinkButton onClick={more}>All that it allows and limits</LinkButton>
      </div>
    </div>
  );
}
