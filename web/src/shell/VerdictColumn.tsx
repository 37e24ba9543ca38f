import { useEffect, useRef, useState } from "react";
import { useSearchParams } from "react-router";

import type { Finding, Mend } from "../api/client";
import { useActions, useFinding, useHead, usePresence, WithRecords } from "../api/plan";
import { isWorse, MARKS } from "../model/verdicts";
import { Consequences } from "../parts/Consequences";
import { HopList } from "../parts/HopList";
import { VerdictMark } from "../parts/VerdictMark";
import { Word } from "../parts/Word";

export function VerdictColumn() {
  const { summary, deltas } = useHead();
  const [params, setParams] = useSearchParams();
  const open = params.get("finding");
  const { counts, findings, more } = summary;
  const all = MARKS.reduce((sum, mark) => sum + (counts[mark] ?? 0), 0);
  const select = (finding: Finding | null): void => {
    setParams(
      (now) => {
        const next = new URLSearchParams(now);
        next.delete("see");
        if (!finding) next.delete("finding");
        else {
          const see = finding.culprit[0] ?? finding.endpoints[0];
          if (see) next.set("see", see);
          next.set("finding", finding.id);
          if (finding.segment) next.set("follow", finding.segment);
        }
        return next;
      },
      { replace: true },
    );
  };
  return (
    <aside className="verdicts" aria-label="Verdicts">
      <div className="verdicts-top">
        <div className="verdicts-head">
          <h2>Verdicts</h2>
          <span>{counted(all)}</span>
        </div>
        <ul className="counts">
          {MARKS.map((mark) => (
            <li key={mark} className={counts[mark] ? "" : "none"} data-verdict={mark}>
              <VerdictMark mark={mark} size={12} />
              <b>{counts[mark]}</b>
              {!!deltas[mark] && (
                <span className="delta">
                  {deltas[mark] > 0 ? "+" : "−"}
                  {Math.abs(deltas[mark])}
                </span>
              )}
              <span className="count-word">
                <Word word={mark} />
              </span>
            </li>
          ))}
        </ul>
      </div>
      <h2 className="visually-hidden">Findings</h2>
      <ol className="findings">
        {findings.map((finding) => (
          <li key={finding.id} className={open === finding.id ? "finding open" : "finding"}>
            <button
              type="button"
              className="finding-head"
              aria-expanded={open === finding.id}
              onClick={() => select(open === finding.id ? null : finding)}
            >
              <VerdictMark
                mark={finding.idle ? "idle" : finding.verdict}
                size={12}
                title={finding.idle ? `idle, ${finding.verdict}` : finding.verdict}
              />
              <span>
                <strong>{finding.title}</strong>
                <span className="finding-text">{finding.text}</span>
              </span>
            </button>
            {open === finding.id && (
              <WithRecords waiting={() => <Quiet text="Reading the plan…" />}>
                <FindingBody finding={finding} taken={() => select(null)} />
              </WithRecords>
            )}
          </li>
        ))}
      </ol>
      {all > 0 && (
        <p className="all-said">
          {more
            ? `${more} findings more; these come first.`
            : findings.length
              ? "Nothing else is wrong."
              : "Everybody is home: nothing is wrong."}
        </p>
      )}
      {all === 0 && <p className="all-said">No endpoint to judge yet.</p>}
    </aside>
  );
}

const counted = (n: number): string => (n === 1 ? "1 endpoint" : `${n.toLocaleString("en")} endpoints`);

function Quiet({ text }: { text: string }) {
  return (
    <p className="quiet" role="status">
      {text}
    </p>
  );
}

function FindingBody({ finding, taken }: { finding: Finding; taken: () => void }) {
  const { edit } = useActions();
  const detail = useFinding(finding.id);
  const [proof, setProof] = useState(false);
  const body = useRef<HTMLDivElement>(null);
  useEffect(() => {
    body.current?.closest(".finding")?.scrollIntoView({ block: "start" });
  }, [detail.isSuccess]);
  if (detail.isPending) return <Quiet text="Working out proof and mends…" />;
  if (detail.error) return <p role="alert">{detail.error.message}</p>;
  const hops = detail.data.proof.flatMap((t) => t.hops);
  const bad = hops.findIndex((h) => h.outcome !== "passed");
  const fact = finding.verdict === "risk" || finding.verdict === "untidy";
  const take = (mend: Mend): void => {
    void edit(mend.title, mend.edit).then((made) => made && taken());
  };
  return (
    <div className="finding-body" ref={body}>
      <button type="button" className="proof-button" aria-expanded={proof} onClick={() => setProof(!proof)}>
        <b>Proof</b>{" "}
        {fact
          ? `${hops.length} place${hops.length === 1 ? "" : "s"}`
          : `${hops.length} hops${bad >= 0 ? `, ${hops[bad]?.outcome} at hop ${bad + 1}` : ""}`}{" "}
        <span aria-hidden>{proof ? "▴" : "▾"}</span>
      </button>
      {proof && detail.data.proof.map((trace, n) => <HopList key={n} trace={trace} />)}
      {detail.data.mends.length === 0 && <p className="quiet">No edit of this plan alone would mend this.</p>}
      {detail.data.mends.map((mend, n) => (
        <MendCard
          key={mend.title}
          mend={mend}
          label={`Mend ${n + 1} of ${detail.data.mends.length}`}
          first={n === 0}
          take={() => take(mend)}
        />
      ))}
    </div>
  );
}

function MendCard({ mend, label, first, take }: { mend: Mend; label: string; first: boolean; take: () => void }) {
  const { busy } = usePresence();
  const card = useRef<HTMLButtonElement>(null);
  // Once, when the mends appear: whoever opens the proof afterwards must not be carried off to a mend.
  useEffect(() => {
    if (first) card.current?.focus({ preventScroll: true });
  }, [first]);
  return (
    <button type="button" className="mend" onClick={take} disabled={busy} ref={card}>
      <span className="mend-label">
        {label} <span className="mend-key">Enter takes it</span>
      </span>
      <strong>{mend.title}</strong>
      <span className={mend.moves.some(isWorse) ? "mend-moves worse" : "mend-moves"}>
        <Consequences of={mend} />
      </span>
    </button>
  );
}
