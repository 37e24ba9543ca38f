import { Build } from "./Build";
import { InSight } from "./InSight";
import type { Layout, Rect } from "./layout";
import { ManyPanel } from "./Many";
import { bubbleLeft, buildPlace, panelPlace, type Viewport } from "./places";
import { RecordPanel } from "./RecordPanel";
import { Sheet } from "./Sheet";
import { TagInPlace } from "./TagInPlace";

/** What is open over the drawing, about which record or host. */
export type Open =
  | { what: "tag"; id: string }
  | { what: "panel"; id: string; section?: string }
  | { what: "build"; host: string; onto: string | null }
  | { what: "sheet"; page?: string }
  | { what: "many" };

/** What panels do beside closing. */
interface Doing {
  open: (record: string, section?: string) => void;
  build: (host: string, onto: string | null) => void;
  compare: (host: string) => void;
}

/** A record's panel, at a section if one was asked for. */
export function AtRecord({
  id,
  section,
  close,
  ...doing
}: { id: string; section: string | undefined; close: () => void } & Doing) {
  return <RecordPanel key={`${id} ${section ?? ""}`} id={id} first={section} close={close} {...doing} />;
}

/** What is open over the drawing: beside the part that it is about, or at the side where that isn't drawn. */
export function Opened({
  panel,
  rect,
  layout,
  view,
  picked,
  close,
  leave,
  ...doing
}: {
  panel: Open;
  /** Where the part is drawn that it is about. */
  rect: Rect | null;
  layout: Layout;
  view: Viewport;
  picked: readonly string[];
  /** Close it and go back to that part; `leave` closes it alone. */
  close: () => void;
  leave: () => void;
} & Doing) {
  const aside = { left: view.left + Math.max(8, view.width - 396), top: 8 };
  if (panel.what === "sheet")
    return (
      <InSight className="panel-place wide" style={aside}>
        <Sheet key={panel.page} page={panel.page} close={leave} open={doing.open} />
      </InSight>
    );
  if (panel.what === "many")
    return (
      picked.length > 0 && (
        <InSight className="panel-place wide" style={aside}>
          <ManyPanel key={picked.join(" ")} ids={[...picked]} close={leave} />
        </InSight>
      )
    );
  if (panel.what === "panel")
    return (
      <InSight
        className={rect ? "panel-place" : "panel-place wide"}
        style={rect ? panelPlace(rect, layout, view) : aside}
      >
        <AtRecord id={panel.id} section={panel.section} close={rect ? close : leave} {...doing} />
      </InSight>
    );
  if (!rect) return null;
  return panel.what === "tag" ? (
    <TagInPlace
      key={panel.id}
      id={panel.id}
      rect={rect}
      left={bubbleLeft(rect, view)}
      close={close}
      more={() => doing.open(panel.id)}
    />
  ) : (
    <InSight className="panel-place wide" style={buildPlace(rect, layout, view)}>
      <Build key={`${panel.host} ${panel.onto ?? ""}`} host={panel.host} onto={panel.onto} close={close} />
    </InSight>
  );
}
