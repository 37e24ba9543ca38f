import "./queues.css";

import type { QueuePlan } from "../api/client";
import { rangeText } from "./ranges";

const CELL = 22;
const LABEL = 92;
const GAP = 22;
const HEAD = 44;

/** The cores of a host by its NICs: which serve which, as laid out and now. */
export function CoreGrid({ plan }: { plan: QueuePlan }) {
  const nics = plan.nics.filter((nic) => nic.laid.length || nic.now.length);
  const laidNodes = plan.nodes.map((node) => {
    const columns = [
      ...node.cores.map((threads) => ({ first: threads[0]!, threads, off: false })),
      ...node.offline.map((processor) => ({ first: processor, threads: [processor], off: true })),
    ];
    return { ...node, columns, width: Math.max(columns.length, 4) * CELL + GAP };
  });
  const from = (n: number): number => laidNodes.slice(0, n).reduce((sum, node) => sum + node.width, LABEL);
  const nodes = laidNodes.map((node, n) => ({ ...node, from: from(n) }));
  const x = from(nodes.length);
  const rows = nics.length || 1;
  const height = HEAD + rows * CELL + 8;
  const told = nics
    .filter((nic) => nic.laid.length)
    .map((nic) => `${nic.name} by ${rangeText(nic.laid)}`)
    .join("; ");
  return (
    <>
      <div className="core-grid" tabIndex={0} role="group" aria-label="Cores by NICs">
        <svg
          width={x}
          height={height}
          role="img"
          aria-label={`Cores of ${plan.name}, as they would be laid out: ${told || "none serves a NIC"}`}
        >
          {nics.map((nic, row) => (
            <text key={nic.id} className="core-nic" x={LABEL - 8} y={HEAD + row * CELL + 15} textAnchor="end">
              {nic.name}
            </text>
          ))}
          {nodes.map((node) => (
            <g key={node.number} transform={`translate(${node.from} 0)`}>
              <text className="core-node" y={13}>
                node {node.number}, socket {node.socket}
              </text>
              {node.columns.map((core, n) => (
                <g key={core.first} transform={`translate(${n * CELL} 0)`}>
                  <text
                    className={node.usable.includes(core.first) ? "core-number" : "core-number left"}
                    x={CELL / 2}
                    y={HEAD - 8}
                    textAnchor="middle"
                  >
                    {core.first}
                  </text>
                  {nics.map((nic, row) => {
                    const laid = nic.laid.includes(core.first);
                    const now = core.threads.some((thread) => nic.now.includes(thread));
                    const free = node.usable.includes(core.first);
                    return (
                      <g key={nic.id} transform={`translate(2 ${HEAD + row * CELL + 2})`}>
                        <rect
                          className={["core", laid && "laid", core.off && "off", !free && "left"]
                            .filter(Boolean)
                            .join(" ")}
                          width={CELL - 4}
                          height={CELL - 4}
                          rx={2}
                        >
                          <title>{said(nic.name, core, laid, now, free)}</title>
                        </rect>
                        {now && <circle className={laid ? "core-now laid" : "core-now"} cx={9} cy={9} r={4} />}
                      </g>
                    );
                  })}
                </g>
              ))}
            </g>
          ))}
        </svg>
      </div>
      <p className="core-legend">
        <span className="core-key laid" aria-hidden /> as laid out
        <span className="core-key now" aria-hidden /> serves it now
        <span className="core-key left" aria-hidden /> left alone: the host’s first core, or switched off
      </p>
    </>
  );
}

function said(
  nic: string,
  core: { first: number; threads: number[]; off: boolean },
  laid: boolean,
  now: boolean,
  free: boolean,
): string {
  const threads = core.threads.length > 1 ? ` (threads ${core.threads.join(", ")})` : "";
  const what = core.off ? "is switched off" : free ? "" : "is the host’s first core";
  const does = [laid && `would serve ${nic}`, now && `serves ${nic} now`, what].filter(Boolean).join(", ");
  return `Core ${core.first}${threads} ${does || `doesn’t serve ${nic}`}`;
}
