import { memo } from "react";

import type { Column, Layout, Rect } from "./layout";
import {
  AdapterTab,
  FarEnd,
  GatherStrip,
  GuestCard,
  HostHead,
  HostPortPill,
  Nic,
  Slot,
  SwitchFrame,
  Team,
  type Scene,
} from "./parts";

/**
 * One host in cross-section, from its guests down to what its NICs are plugged into; its head alone where it is folded.
 */
export const HostColumn = memo(function HostColumn({
  scene,
  decks,
  column,
  toggle,
  gather,
}: {
  scene: Scene;
  decks: Layout["decks"];
  column: Column;
  toggle: (host: string) => void;
  /** Gather its guests, or show each for itself. */
  gather: (host: string) => void;
}) {
  const { book } = scene;
  const crowd = { left: column.x, width: column.w, height: decks.floor + 4 };
  const here = <R extends Rect>(rect: R): R => ({ ...rect, x: rect.x - column.x });
  return (
    <section aria-label={`Host ${book.get("host", column.host)?.name ?? ""}`}>
      {!column.collapsed && (
        <div className="column" style={{ left: column.x, width: column.w, height: decks.floor - 2 }} />
      )}
      <HostHead
        scene={scene}
        open={() => scene.select(column.host)}
        column={column}
        toggle={() => toggle(column.host)}
      />
      {!column.collapsed && (
        <>
          {column.gather && (
            <GatherStrip scene={scene} host={column.host} gather={column.gather} toggle={() => gather(column.host)} />
          )}
          {!column.guests.length && !column.gather && (
            <span className="deck-name" style={{ left: column.x + 16, top: decks.guests, width: column.w - 32 }}>
              No guests on this host: + makes one.
            </span>
          )}
          {!column.switches.length && (
            <span className="deck-name" style={{ left: column.x + 16, top: decks.switches, width: column.w - 32 }}>
              No switch yet: press N, or + above, to take NICs and make one.
            </span>
          )}
          {!column.nics.length && (
            <span className="deck-name" style={{ left: column.x + 16, top: decks.nics + 20, width: column.w - 32 }}>
              No NICs: + puts them in.
            </span>
          )}
          <div className="crowd" style={crowd}>
            {column.guests.map((g) => (
              <GuestCard key={g.id} scene={scene} id={g.id} rect={here(g)} />
            ))}
          </div>
          <div className="crowd above" style={crowd}>
            {column.guests.flatMap((g) =>
              g.adapters.map((a, n) => (
                <AdapterTab key={a.id} scene={scene} id={a.id} rect={here(a)} order={n} level={g.level} />
              )),
            )}
          </div>
          {column.switches.map((s) => (
            <SwitchFrame key={s.id} scene={scene} box={s} />
          ))}
          <div className="crowd" style={crowd}>
            {column.switches.flatMap((s) =>
              s.slots.map((b) => (
                <Slot key={b.id} scene={scene} box={here(b)} gathers={Boolean(column.gather?.folded)} />
              )),
            )}
            {column.switches.flatMap((s) =>
              s.ports.map((b) => <HostPortPill key={b.id} scene={scene} box={here(b)} />),
            )}
            {column.teams.map((t, n) => (
              <Team key={`${t.id} ${n}`} scene={scene} label={here(t)} />
            ))}
            {column.nics.map((n) => (
              <Nic key={n.id} scene={scene} box={here(n)} />
            ))}
            {column.nics.map((n) => (
              <FarEnd key={n.id} scene={scene} box={{ ...n, below: here(n.below) }} />
            ))}
          </div>
        </>
      )}
    </section>
  );
});
