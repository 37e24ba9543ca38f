import "../strand/strand.css";

import { Button, HStack, SegmentGroup } from "@chakra-ui/react";
import { useQuery } from "@tanstack/react-query";
import { useCallback, useMemo, useState } from "react";
import { useSearchParams } from "react-router";

import { api, unwrap } from "../api/client";
import { usePlan } from "../api/plan";
import { compareNames, segmentStyle, segmentTag } from "../model/records";
import type { Mark } from "../model/verdicts";
import { Quiet } from "../parts/controls";
import { matching, SearchBox, type Choice } from "../parts/SearchBox";
import { OneCable } from "../strand/OneCable";
import { cableName, hostKnots, rowsOf } from "../strand/rows";
import { Tree } from "../strand/Tree";

/** So many lines are read at once; among more, hosts are folded at first. */
const FEW = 200;

/** One segment alone as a tree, or one cable alone. */
export function Strand() {
  const { book } = usePlan();
  const [params, setParams] = useSearchParams();
  const segments = useMemo(() => [...book.records.segment].sort((a, b) => compareNames(a.name, b.name)), [book]);
  const cables = useMemo(
    () =>
      book.records.cable
        .map((cable) => ({ cable, name: cableName(book, cable) }))
        .sort((a, b) => compareNames(a.name, b.name)),
    [book],
  );
  const one = params.has("cable") ? "cable" : "segment";
  const cable = cables.find((c) => c.cable.id === params.get("cable")) ?? (one === "cable" ? cables[0] : undefined);
  const segment = segments.find((s) => s.id === params.get("segment")) ?? segments[0];
  const put = (what: "segment" | "cable", id: string): void =>
    setParams(
      (now) => {
        const next = new URLSearchParams(now);
        next.delete(what === "cable" ? "segment" : "cable");
        next.set(what, id);
        return next;
      },
      { replace: true },
    );
  const choices = useMemo<Choice[]>(
    () =>
      one === "cable"
        ? cables.map(({ cable: { id }, name }) => ({ value: id, label: name, detail: "", text: name.toLowerCase() }))
        : segments.map((s) => {
            const detail = `${segmentTag(s)} ${s.role ?? ""}`.trim();
            return { value: s.id, label: s.name, detail, text: `${s.name} ${detail}`.toLowerCase() };
          }),
    [one, cables, segments],
  );
  const find = useCallback((typed: string) => matching(choices, typed), [choices]);
  const nothing = one === "cable" ? !cable : !segment;
  return (
    <div className="strand">
      <HStack gap="3" px="3" py="1.5" wrap="wrap">
        <SegmentGroup.Root
          size="xs"
          value={one}
          aria-label="What is looked at"
          onValueChange={({ value }) =>
            value === "cable" ? put("cable", cables[0]?.cable.id ?? "") : put("segment", segments[0]?.id ?? "")
          }
        >
          <SegmentGroup.Indicator bg="copper.soft" />
          {(["segment", "cable"] as const).map((value) => (
            <SegmentGroup.Item key={value} value={value}>
              <SegmentGroup.ItemText>One {value}</SegmentGroup.ItemText>
              <SegmentGroup.ItemHiddenInput />
            </SegmentGroup.Item>
          ))}
        </SegmentGroup.Root>
        {!nothing && (
          <SearchBox
            key={one}
            label={one === "cable" ? "Cable" : "Segment"}
            value={(one === "cable" ? cable?.cable.id : segment?.id) ?? ""}
            said={(one === "cable" ? cable?.name : segment?.name) ?? ""}
            find={find}
            put={(id) => id && put(one, id)}
            placeholder={one === "cable" ? "either end" : "name or VID"}
            empty="Nothing by that name."
            width={one === "cable" ? "380px" : "300px"}
            size="xs"
          />
        )}
      </HStack>
      {nothing ? (
        <div className="empty-state">
          <h2>{one === "cable" ? "There is no cable yet" : "There is no segment yet"}</h2>
          <p>
            {one === "cable"
              ? "Plug NICs into the fabric on Decks; then this shows what each cable carries, and who needs it."
              : "Segments come from the Ledger; then this shows where each goes, breaks and could be overheard."}
          </p>
        </div>
      ) : one === "cable" ? (
        <OneCable key={cable!.cable.id} cable={cable!.cable} />
      ) : (
        <OneSegment key={segment!.id} segment={segment!.id} number={book.records.segment.indexOf(segment!)} />
      )}
    </div>
  );
}

/** A segment's tree. */
function OneSegment({ segment, number }: { segment: string; number: number }) {
  const { id, at, book, snapshot } = usePlan();
  const [alone, setAlone] = useState(false);
  const [turned, setTurned] = useState<ReadonlyMap<string, boolean>>(new Map());
  const asked = useQuery({
    queryKey: ["segment-alone", id, at, snapshot.revision, segment],
    queryFn: async () =>
      unwrap(
        await api.GET("/api/plans/{plan_id}/segment-alone", { params: { path: { plan_id: id }, query: { segment } } }),
      ),
    placeholderData: (before) => before,
  });
  const mark = useCallback(
    (record: string): Mark | undefined => {
      const endpoint = snapshot.endpoints.get(record);
      return endpoint && (endpoint.idle ? "idle" : endpoint.verdict);
    },
    [snapshot.endpoints],
  );
  const folded = useMemo(() => {
    const knots = asked.data?.knots ?? [];
    const made = new Set(knots.length > FEW ? hostKnots(knots, book) : []);
    for (const [key, fold] of turned) {
      if (fold) made.add(key);
      else made.delete(key);
    }
    return made;
  }, [asked.data, book, turned]);
  const rows = useMemo(
    () => (asked.data ? rowsOf(asked.data.knots, asked.data.beyond, folded, alone, mark) : []),
    [asked.data, folded, alone, mark],
  );
  if (asked.error) return <p role="alert">{asked.error.message}</p>;
  if (!asked.data) return <p role="status">Following it through everything…</p>;
  const { knots, beyond } = asked.data;
  const past = at === undefined ? "" : `&at=${at}`;
  const breaks = knots.reduce((sum, knot) => sum + knot.breaks.length, 0);
  const ears = knots.reduce((sum, knot) => sum + knot.ears.length, beyond.length);
  return (
    <>
      <HStack gap="3" px="3" pb="1.5" wrap="wrap">
        <Quiet>
          {knots.length === 0
            ? "Nobody is on it yet."
            : `${many(breaks, "break")}, ${many(ears, "place")} where it is or could be overheard`}
        </Quiet>
        {breaks + ears > 0 && (
          <Button size="xs" variant="outline" aria-pressed={alone} onClick={() => setAlone(!alone)}>
            {alone ? "All of it" : "Breaks and ears alone"}
          </Button>
        )}
        <Button size="xs" variant="outline" asChild>
          <a href={`/api/plans/${id}/strand-drawing?segment=${encodeURIComponent(segment)}${past}`} download>
            Save as SVG
          </a>
        </Button>
        <Quiet>Arrows move and fold, Enter shows it on Decks.</Quiet>
      </HStack>
      <Tree
        label={`${book.get("segment", segment)?.name ?? segment} alone`}
        rows={rows}
        color={segmentStyle(number).color}
        fold={(key, fold) => setTurned(new Map([...turned, [key, fold]]))}
        mark={mark}
      />
    </>
  );
}

const many = (count: number, what: string): string => `${count.toLocaleString("en")} ${what}${count === 1 ? "" : "s"}`;
