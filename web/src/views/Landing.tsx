import "./tables.css";

import { Button, HStack, NativeSelect } from "@chakra-ui/react";
import { useMemo, useState } from "react";
import { useNavigate, useSearchParams } from "react-router";

import type { Finding } from "../api/client";
import { usePlan } from "../api/plan";
import { ColumnMenu } from "../landing/ColumnMenu";
import type { Row } from "../landing/columns";
import { LandingGrid } from "../landing/LandingGrid";
import { grouped, inOrder, Line, type Grouping } from "../landing/lines";
import { useColumns } from "../landing/useColumns";
import { MARKS, type Mark } from "../model/verdicts";
import { MendAll } from "../parts/MendAll";
import { QueryBox } from "../parts/QueryBox";
import { VerdictMark } from "../parts/VerdictMark";

/** Whether somebody accepts a finding as it is. */
const held = (finding: Finding): boolean => finding.acceptance !== null && !finding.acceptance.over;

export function Landing() {
  const { base, snapshot, book } = usePlan();
  const { columns, choose } = useColumns();
  const navigate = useNavigate();
  const [params, setParams] = useSearchParams();
  // A link may bring a query; what is typed then goes on from it.
  const brought = params.get("q") ?? "";
  const [known, setKnown] = useState(brought);
  const [text, setText] = useState(brought);
  if (brought !== known) {
    setKnown(brought);
    setText(brought);
  }
  const [grouping, setGrouping] = useState<Grouping>("verdict");
  const [marks, setMarks] = useState<ReadonlySet<Mark>>(new Set());

  const rows = useMemo<Row[]>(() => {
    const findingOf = new Map<string, Finding>();
    for (const finding of [...snapshot.summary.findings, ...snapshot.summary.accepted])
      for (const e of finding.endpoints) if (!findingOf.has(e)) findingOf.set(e, finding);
    return inOrder(snapshot.ofHost).flatMap((endpoint) =>
      endpoint.tags.map((tag) => ({
        endpoint,
        tag,
        finding: tag.verdict === "home" ? undefined : findingOf.get(endpoint.id),
        mark: endpoint.idle ? ("idle" as const) : tag.verdict,
      })),
    );
  }, [snapshot.summary, snapshot.ofHost]);

  const { off } = snapshot.summary;
  const lines = useMemo(
    () => grouped(rows, book, { query: text, off, marks, grouping }),
    [rows, book, text, off, marks, grouping],
  );
  const open = (finding: Finding): void =>
    setParams(
      (now) => {
        const next = new URLSearchParams(now);
        next.set("finding", finding.id);
        return next;
      },
      { replace: true },
    );
  const shown = useMemo(() => lines.flatMap((line) => (line instanceof Line ? [line.row] : [])), [lines]);
  const adapters = useMemo(
    () => [...new Set(shown.flatMap(({ endpoint }) => (endpoint.kind === "adapter" ? [endpoint.id] : [])))],
    [shown],
  );
  const inSight = useMemo(
    () => [...new Set(shown.flatMap(({ finding }) => (finding && !held(finding) ? [finding.id] : [])))],
    [shown],
  );
  return (
    <div className="landing">
      <div className="tools" role="toolbar" aria-label="Filter and group">
        <QueryBox
          label="Filter"
          width="270px"
          placeholder="Words, or role:storage verdict:astray"
          value={text}
          put={setText}
        />
        {MARKS.filter((m) => snapshot.summary.counts[m]).map((mark) => (
          <Button
            key={mark}
            size="2xs"
            variant="outline"
            rounded="full"
            fontWeight="400"
            aria-pressed={marks.has(mark)}
            _pressed={{ borderColor: `var(--v-${mark})`, bg: "sheet", fontWeight: "600" }}
            onClick={() =>
              setMarks((now) => {
                const next = new Set(now);
                if (!next.delete(mark)) next.add(mark);
                return next;
              })
            }
          >
            <VerdictMark mark={mark} size={11} /> {mark}
          </Button>
        ))}
        <HStack as="label" gap="1.5" ms="auto" color="fg.muted" whiteSpace="nowrap">
          Group by
          <NativeSelect.Root size="xs" width="110px">
            <NativeSelect.Field
              height="7"
              bg="sheet"
              value={grouping}
              onChange={(e) => setGrouping(e.target.value as Grouping)}
            >
              <option value="verdict">verdict</option>
              <option value="host">host</option>
              <option value="segment">segment</option>
              <option value="none">nothing</option>
            </NativeSelect.Field>
            <NativeSelect.Indicator />
          </NativeSelect.Root>
        </HStack>
        {adapters.length > 0 && adapters.length < rows.length && (
          <Button
            size="2xs"
            variant="outline"
            title="Pick the adapters in sight on Decks, to edit them together"
            onClick={() => void navigate(`${base}/decks?level=host`, { state: { picks: adapters } })}
          >
            Pick {adapters.length === 1 ? "the adapter" : `the ${adapters.length.toLocaleString("en")} adapters`}
          </Button>
        )}
        <ColumnMenu shown={columns} choose={choose} />
        <MendAll findings={inSight} />
      </div>
      {shown.length ? (
        <LandingGrid columns={columns} lines={lines} rows={rows} open={open} />
      ) : (
        <p className="nothing">
          {rows.length
            ? "No endpoint matches this filter."
            : "No endpoint yet: guests' adapters and host ports stand here once the plan has some."}
        </p>
      )}
      <p className="table-foot">
        {shown.length.toLocaleString("en")} of {rows.length.toLocaleString("en")} places shown
        {params.get("finding") ? "; the open finding stands in the verdict column" : ""}
      </p>
    </div>
  );
}
