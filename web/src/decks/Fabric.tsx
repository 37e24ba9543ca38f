import { memo } from "react";

import type { LoadWidth } from "../api/client";
import { usePlan } from "../api/plan";
import { mbits, percent, toneOf, widthOf } from "../load/said";
import { rounded, type Column, type Layout } from "./layout";
import { FabricBar, MorePorts, Socket, TrunkEnd, type Scene } from "./parts";

/** The cables, beneath everything: those of the columns in sight, and those between switches. */
export const Cables = memo(function Cables({
  layout,
  columns,
  blocked,
  load,
}: {
  layout: Layout;
  columns: Column[];
  blocked: Record<string, string>;
  /** The fuller direction of the cable at each port, where the load is shown. */
  load: ReadonlyMap<string, LoadWidth> | null;
}) {
  const { book } = usePlan();
  return (
    <svg className="lines under" width={layout.width} height={layout.height} aria-hidden>
      {columns.flatMap((c) =>
        c.nics
          .filter((n) => n.far)
          .map((n) => {
            const port = book.get("fabric_port", n.far);
            const bar = port ? layout.barOf.get(port.switch) : undefined;
            return (
              <g key={n.id} stroke="var(--line-strong)" fill="none">
                {load ? (
                  <Loaded d={`M${n.drop} ${n.y + n.h}V${n.below.y}`} direction={load.get(n.id)} />
                ) : (
                  <path d={`M${n.drop} ${n.y + n.h}V${n.below.y}`} strokeWidth="4" opacity="0.6" />
                )}
                {bar &&
                  (load ? (
                    <Loaded d={rounded([...n.exit, [n.exit.at(-1)![0], bar.y]])} direction={load.get(n.id)} />
                  ) : (
                    <path d={rounded([...n.exit, [n.exit.at(-1)![0], bar.y]])} strokeWidth="1" opacity="0.7" />
                  ))}
              </g>
            );
          }),
      )}
      {load &&
        layout.trunks.map((t) => (
          <Loaded key={`${t.cable} load`} d={rounded(t.points)} direction={load.get(t.a.port)} />
        ))}
      {(load ? [] : layout.trunks).map((t) => (
        <path
          key={t.cable}
          d={rounded(t.points)}
          stroke="var(--line-strong)"
          strokeWidth={t.cable in blocked ? 1.5 : 3}
          strokeDasharray={t.cable in blocked ? "3 4" : undefined}
          fill="none"
        />
      ))}
    </svg>
  );
});

/** How full the cable of each NIC in sight is, along the NIC's lower edge. */
export const Meters = memo(function Meters({
  layout,
  columns,
  load,
}: {
  layout: Layout;
  columns: Column[];
  load: ReadonlyMap<string, LoadWidth>;
}) {
  return (
    <svg className="lines" width={layout.width} height={layout.height}>
      {columns
        .flatMap((c) => c.nics)
        .map((n) => {
          const direction = load.get(n.id);
          if (!direction) return null;
          const { asked, speed } = direction;
          const says = speed ? `${percent(asked, speed)} full` : `${mbits(asked)}, nobody says what it carries`;
          return (
            <g key={n.id} role="img" aria-label={`${direction.name}: ${says}`}>
              <title>{`${direction.name}: ${says}`}</title>
              <rect x={n.x + 1} y={n.y + n.h - 4} width={n.w - 2} height="3" fill="var(--line)" />
              <rect
                x={n.x + 1}
                y={n.y + n.h - 4}
                width={(n.w - 2) * Math.min(1, speed ? asked / speed : 1)}
                height="3"
                fill={toneOf(asked, speed)}
              />
            </g>
          );
        })}
    </svg>
  );
});

/** A cable as wide as it is full. */
function Loaded({ d, direction }: { d: string; direction: LoadWidth | undefined }) {
  if (!direction) return <path d={d} stroke="var(--line-strong)" strokeWidth="1" fill="none" />;
  return (
    <path
      d={d}
      stroke={toneOf(direction.asked, direction.speed)}
      strokeWidth={widthOf(direction)}
      strokeDasharray={direction.speed ? undefined : "3 3"}
      fill="none"
    />
  );
}

/** The fabric's switches with their free ports and the ends of the cables between them, from one place to another. */
export const Fabric = memo(function Fabric({
  scene,
  layout,
  from,
  to,
  roots,
  blocked,
}: {
  scene: Scene;
  layout: Layout;
  from: number;
  to: number;
  roots: ReadonlySet<string>;
  blocked: Record<string, string>;
}) {
  const bars = layout.bars.filter((bar) => bar.x <= to && bar.x + bar.w >= from);
  const trunks = layout.trunks.filter(({ a, b }) => Math.min(a.x, b.x) <= to && Math.max(a.x, b.x) >= from);
  return (
    <section aria-label="Fabric">
      {bars.map((bar) => (
        <FabricBar key={bar.id} scene={scene} bar={bar} root={roots.has(bar.id)} />
      ))}
      {bars.flatMap((bar) => bar.sockets.map((s) => <Socket key={s.id} scene={scene} id={s.id} rect={s} />))}
      {bars.map((bar) => (
        <MorePorts key={bar.id} scene={scene} bar={bar} />
      ))}
      {trunks.flatMap((t) =>
        (
          [
            [t.a, t.b],
            [t.b, t.a],
          ] as const
        ).map(([end, other]) => (
          <TrunkEnd
            key={`${t.cable} ${end.port}`}
            scene={scene}
            end={end}
            other={other}
            blocked={blocked[t.cable] === end.bar}
          />
        )),
      )}
    </section>
  );
});
