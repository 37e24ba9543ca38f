import { Box, Button, Field, HStack, Input } from "@chakra-ui/react";
import { memo, useCallback, useEffect, useRef, useState, type FormEvent, type ReactNode } from "react";
import { useSearchParams } from "react-router";

import type { Accepted, Finding, Mend, Operation } from "../api/client";
import { useActions, useFinding, useHead, usePresence, WithRecords } from "../api/plan";
import { isWorse, MARKS } from "../model/verdicts";
import { somebody } from "../model/said";
import { Consequences } from "../parts/Consequences";
import { Keys, LinkButton, TakeButton, TextLine } from "../parts/controls";
import { MendAll } from "../parts/MendAll";
import { HopList } from "../parts/HopList";
import { VerdictMark } from "../parts/VerdictMark";
import { Word } from "../parts/Word";

export const VerdictColumn = memo(function VerdictColumn() {
  const { summary, deltas } = useHead();
  const [params, setParams] = useSearchParams();
  const open = params.get("finding");
  const { counts, findings, more, accepted } = summary;
  const [asked, setShowing] = useState(false);
  const showing = asked || accepted.some((finding) => finding.id === open);
  const all = MARKS.reduce((sum, mark) => sum + (counts[mark] ?? 0), 0);
  const select = useCallback(
    (finding: Finding | null): void =>
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
      ),
    [setParams],
  );
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
              <b>{counts[mark]?.toLocaleString("en")}</b>
              {!!deltas[mark] && (
                <span className="delta">
                  {deltas[mark] > 0 ? "+" : "−"}
                  {Math.abs(deltas[mark]).toLocaleString("en")}
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
      <Listed findings={findings} open={open} select={select}>
        {all > 0 && (
          <p className="all-said">
            {more
              ? `${more} findings more; these come first.`
              : findings.length
                ? "Nothing else is wrong."
                : "Everybody is home: nothing is wrong."}
          </p>
        )}
      </Listed>
      {all === 0 && <p className="all-said">No endpoint to judge yet.</p>}
      {accepted.length > 0 && (
        <>
          <Button size="xs" variant="ghost" mx="2" aria-expanded={showing} onClick={() => setShowing(!showing)}>
            {accepted.length} accepted <span aria-hidden>{showing ? "▴" : "▾"}</span>
          </Button>
          {showing && <Listed label="Accepted" findings={accepted} open={open} select={select} />}
        </>
      )}
    </aside>
  );
});

/** So many findings are in the page at first, and so many more each time that its end comes near. */
const SOME = 60;

/** Findings, the gravest first. Of hundreds those that somebody scrolls to: all would slow what is drawn beside. */
function Listed({
  label,
  findings,
  open,
  select,
  children,
}: {
  label?: string;
  findings: Finding[];
  open: string | null;
  select: (finding: Finding | null) => void;
  /** What is said once all are there. */
  children?: ReactNode;
}) {
  const [reached, setReached] = useState(SOME);
  const most = Math.max(reached, findings.findIndex((finding) => finding.id === open) + 1);
  const end = useRef<HTMLButtonElement>(null);
  const left = findings.length - most;
  useEffect(() => {
    const node = end.current;
    if (!node) return;
    const observer = new IntersectionObserver(([seen]) => seen!.isIntersecting && setReached(most + SOME), {
      root: node.closest(".verdicts"),
      rootMargin: "600px",
    });
    observer.observe(node);
    return () => observer.disconnect();
  }, [most, left]);
  return (
    <>
      <ol className="findings" aria-label={label}>
        {findings.slice(0, most).map((finding) => (
          <OneFinding key={finding.id} finding={finding} open={open === finding.id} select={select} />
        ))}
      </ol>
      {left > 0 ? (
        <Button ref={end} size="xs" variant="ghost" mt="2" onClick={() => setReached(most + SOME)}>
          {left} more
        </Button>
      ) : (
        children
      )}
    </>
  );
}

/** A finding's line; of hundreds, an edit changes a few. */
const OneFinding = memo(function OneFinding({
  finding,
  open,
  select,
}: {
  finding: Finding;
  open: boolean;
  select: (finding: Finding | null) => void;
}) {
  return (
    <li className={open ? "finding open" : "finding"}>
      <button type="button" className="finding-head" aria-expanded={open} onClick={() => select(open ? null : finding)}>
        <VerdictMark
          mark={finding.idle ? "idle" : finding.verdict}
          size={12}
          title={finding.idle ? `idle, ${finding.verdict}` : finding.verdict}
        />
        <span>
          <strong>{finding.title}</strong>
          <span className="finding-text">{finding.text}</span>
          {finding.acceptance && <span className="finding-text">{saidOf(finding.acceptance)}</span>}
        </span>
      </button>
      {open && (
        <WithRecords waiting={() => <Quiet text="Reading the plan…" />}>
          <FindingBody finding={finding} taken={() => select(null)} />
        </WithRecords>
      )}
    </li>
  );
});

/** An acceptance in words. */
function saidOf({ by, why, until, over }: Accepted): string {
  const who = `${somebody(by || null)}${until ? ` until ${until}` : ""}`;
  return over ? `Back, for ${over}. ${who} had accepted it: ${why}` : `Accepted by ${who}: ${why}`;
}

/** Why a finding is accepted, and how long; or what takes that back. */
function Acceptance({ finding, taken }: { finding: Finding; taken: () => void }) {
  const { edit, gesture } = useActions();
  const { busy } = usePresence();
  const [typing, setTyping] = useState(false);
  const [why, setWhy] = useState("");
  const [until, setUntil] = useState("");
  const own = finding.acceptance;
  const field = useRef<HTMLInputElement>(null);
  useEffect(() => {
    if (typing) field.current?.focus();
  }, [typing]);
  const back = (): void => {
    const operations: Operation[] = [{ op: "drop", kind: "acceptance", id: own!.id }];
    void edit(`Accept no longer: ${finding.title}`, operations);
  };
  const accept = (event: FormEvent): void => {
    event.preventDefault();
    const args = { finding: finding.id, why: why.trim(), until };
    if (args.why && !busy) void gesture("accept", args).then((made) => made && taken());
  };
  if (own && !own.over)
    return (
      <HStack px="2" pb="2">
        <LinkButton onClick={back}>Accept it no longer</LinkButton>
      </HStack>
    );
  if (!typing)
    return (
      <HStack px="2" pb="2" gap="3">
        <LinkButton onClick={() => setTyping(true)}>Accept it</LinkButton>
        {own && <LinkButton onClick={back}>Forget that it was accepted</LinkButton>}
      </HStack>
    );
  return (
    <Box as="form" px="2" pt="2" pb="1" onSubmit={accept} onKeyDown={(e) => e.key === "Escape" && setTyping(false)}>
      <TextLine label="Why" wide="44px" value={why} put={setWhy} hint="the new cards come in May" plain hold={field} />
      <Field.Root orientation="horizontal" gap="2" mb="1.5">
        <Field.Label flex="0 0 44px" fontSize="12.5px" fontWeight="400">
          Until
        </Field.Label>
        <Input
          type="date"
          size="xs"
          height="7"
          px="1.5"
          bg="paper"
          value={until}
          onChange={(e) => setUntil(e.target.value)}
        />
      </Field.Root>
      <HStack gap="2.5" py="1">
        <TakeButton type="submit" disabled={!why.trim() || busy}>
          Accept
        </TakeButton>
        <Keys>Back as soon as its cause changes or the day is over</Keys>
      </HStack>
    </Box>
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
  const { summary } = useHead();
  const detail = useFinding(finding.id);
  const alike = summary.findings.filter((f) => f.what === finding.what).map((f) => f.id);
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
      {alike.length > 1 && (
        <Box px="2" pt="2">
          <MendAll findings={alike} which="of this kind" />
        </Box>
      )}
      <Acceptance finding={finding} taken={taken} />
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
