import { memo } from "react";

import { usePlan } from "../api/plan";
import { rounded, type Column, type Layout } from "./layout";
import { FabricBar, MorePorts, Socket, TrunkEnd, type Scene } from "./parts";

/** The cables, beneath everything: those of the columns in sight, and those between switches. */
export const Cables = memo(function Cables({
  layout,
  columns,
  blocked,
}: {
  layout: Layout;
  columns: Column[];
  blocked: Record<string, string>;
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
                <path d={`M${n.drop} ${n.y + n.h}V${n.below.y}`} strokeWidth="4" opacity="0.6" />
                {bar && <path d={rounded([...n.exit, [n.exit.at(-1)![0], bar.y]])} strokeWidth="1" opacity="0.7" />}
              </g>
            );
          }),
      )}
      {layout.trunks.map((t) => (
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

/** The fabric's switches with their free ports and the ends of the cables between them. */
export const Fabric = memo(function Fabric({
  scene,
  layout,
  roots,
  blocked,
}: {
  scene: Scene;
  layout: Layout;
  roots: ReadonlySet<string>;
  blocked: Record<string, string>;
}) {
  return (
    <section aria-label="Fabric">
      {layout.bars.map((bar) => (
        <FabricBar key={bar.id} scene={scene} bar={bar} root={roots.has(bar.id)} />
      ))}
      {layout.bars.flatMap((bar) => bar.sockets.map((s) => <Socket key={s.id} scene={scene} id={s.id} rect={s} />))}
      {layout.bars.map((bar) => (
        <MorePorts key={bar.id} scene={scene} bar={bar} />
      ))}
      {layout.trunks.flatMap((t) =>
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
