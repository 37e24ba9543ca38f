import { NativeSelect } from "@chakra-ui/react";
import { useMemo, useState } from "react";
import { FlagLine, LinkButton, Quiet } from "../parts/controls";

import { usePlan, usePresence } from "../api/plan";
import { isWorse } from "../model/verdicts";
import { Consequences } from "../parts/Consequences";
import { compare, differs, everyAspect, type Aspect, type Part } from "./compare";
import { portName } from "./edits";
import { hostsInOrder } from "./layout";
import { usePreviews } from "./Panel";

const MOST_TRIED = 60;

/**
 * Two hosts side by side, read as a frame falls: the same parts on one line, what differs marked, the neighbour of
 * each NIC beneath it.
 */
export function Beside({
  left,
  right,
  choose,
  close,
  open,
}: {
  left: string;
  right: string;
  choose: (side: "left" | "right", id: string) => void;
  close: () => void;
  open: (id: string) => void;
}) {
  const { book, edit } = usePlan();
  const { busy } = usePresence();
  const [all, setAll] = useState(false);
  const parts = useMemo(() => compare(book, left, right), [book, left, right]);
  const aspects = useMemo(() => everyAspect(parts), [parts]);
  const count = aspects.filter(differs).length;
  const mendable = aspects.filter((a) => a.alike).slice(0, MOST_TRIED);
  const edits = mendable.map((a) => a.alike!.operations);
  const { results } = usePreviews(edits, edits.length > 0);
  const [here, there] = [left, right].map((id) => book.get("host", id)?.name ?? "") as [string, string];

  const card = (part: Part, side: 0 | 1) => {
    const id = part.ids[side];
    const kind = `beside-card a-${part.kind.replace(" ", "-").toLowerCase()}`;
    if (!id)
      return part.kind === "neighbour" ? (
        <span className={`${kind} absent`}>no cable</span>
      ) : (
        <span className={`${kind} absent`}>not there</span>
      );
    const name = part.kind === "neighbour" ? portName(book, id) : part.name;
    const said = (a: Aspect): string | null => a[side ? "right" : "left"];
    const shown = part.aspects.filter(said);
    return (
      <button
        type="button"
        className={kind}
        onClick={() => open(id)}
        title="Show it on the drawing"
        aria-label={`${part.kind} ${name} of ${side ? there : here}: ${shown.map(said).join("; ")}`}
      >
        <b>{name}</b>
        {shown.map((a) => (
          <span key={a.what} className={differs(a) ? "other" : undefined}>
            {said(a)}
          </span>
        ))}
      </button>
    );
  };

  const lines = (listed: readonly Part[], depth = 0): React.ReactNode[] =>
    listed.flatMap((part) => {
      const apart = part.aspects.filter(differs);
      if (!all && !everyAspect([part]).some(differs)) return [];
      return [
        <tr
          key={`${part.kind} ${part.name} ${part.ids.join()}`}
          className={`${apart.length ? "differs" : "same"} depth-${depth}`}
        >
          <td>{card(part, 0)}</td>
          <th scope="row">
            <span className={apart.length ? "beside-part" : "visually-hidden"}>
              {part.kind} {part.kind !== "neighbour" && part.name}
            </span>
            {apart
              .filter((a) => a.alike || part.ids.every(Boolean))
              .map((a) => {
                const tried = mendable.indexOf(a);
                const result = results?.[tried];
                return (
                  <span key={a.what} className="beside-aspect">
                    {part.aspects.length > 1 && <span className="beside-what">{a.what}</span>}
                    {a.alike && (
                      <LinkButton
                        disabled={busy || !!result?.problems.length}
                        onClick={() => void edit(a.alike!.message, a.alike!.operations)}
                        aria-label={a.alike.message}
                        title={a.alike.message}
                      >
                        as {here}
                      </LinkButton>
                    )}
                    {tried >= 0 && (
                      <span className={result?.moves.some(isWorse) ? "beside-worse" : "beside-moves"}>
                        {" "}
                        ·{" "}
                        {result?.problems.length ? (
                          result.problems[0]!.message
                        ) : result ? (
                          <Consequences of={result} />
                        ) : (
                          "…"
                        )}
                      </span>
                    )}
                  </span>
                );
              })}
          </th>
          <td>{card(part, 1)}</td>
        </tr>,
        ...lines(part.parts, depth + 1),
      ];
    });

  return (
    <div className="beside" role="region" aria-label="Two hosts side by side">
      <div className="beside-bar">
        <span>{count ? `${count} difference${count > 1 ? "s" : ""}` : "No difference"}</span>
        <FlagLine label="show what is the same too" wide="auto" value={all} put={setAll} />
        <span className="spring" />
        <LinkButton onClick={close}>Back to the drawing</LinkButton>
      </div>
      <div className="beside-scroll">
        <table>
          <thead>
            <tr>
              <HostChoice label="Left host" id={left} choose={(id) => choose("left", id)} />
              <th scope="col">Make {there} alike</th>
              <HostChoice label="Right host" id={right} choose={(id) => choose("right", id)} />
            </tr>
          </thead>
          <tbody>{lines(parts)}</tbody>
        </table>
        {!count && !all && (
          <Quiet>Switches, uplinks, port groups, host ports, NICs and their neighbours are the same.</Quiet>
        )}
      </div>
    </div>
  );
}

function HostChoice({ label, id, choose }: { label: string; id: string; choose: (id: string) => void }) {
  const { book } = usePlan();
  return (
    <th scope="col">
      <NativeSelect.Root size="xs">
        <NativeSelect.Field aria-label={label} value={id} onChange={(e) => choose(e.target.value)}>
          {hostsInOrder(book).map((h) => (
            <option key={h.id} value={h.id}>
              {h.name}
            </option>
          ))}
        </NativeSelect.Field>
        <NativeSelect.Indicator />
      </NativeSelect.Root>
    </th>
  );
}
