import "./tables.css";

import { Button, HStack, NativeSelect } from "@chakra-ui/react";
import { useQueries } from "@tanstack/react-query";
import { useVirtualizer } from "@tanstack/react-virtual";
import { useMemo, useRef, useState, type CSSProperties, type ReactNode } from "react";
import { createSearchParams, useNavigate, useSearchParams } from "react-router";

import { api, unwrap, type Finding } from "../api/client";
import { usePlan, usePresence } from "../api/plan";
import { fitting, landsOn, type Column, type Row } from "../landing/columns";
import { ColumnMenu } from "../landing/ColumnMenu";
import { useColumns } from "../landing/useColumns";
import { matcher, readQuery } from "../model/query";
import { compareNames, frameEnd } from "../model/records";
import { gravity, MARKS, sayMoves, type Mark } from "../model/verdicts";
import { MendAll } from "../parts/MendAll";
import { QueryBox } from "../parts/QueryBox";
import { VerdictMark } from "../parts/VerdictMark";

type Grouping = "verdict" | "host" | "segment" | "none";
type Line = { head: string; count: number } | { row: Row };

const ROW = 34;

/** Whether somebody accepts a finding as it is. */
const held = (finding: Finding): boolean => finding.acceptance !== null && !finding.acceptance.over;

export function Landing() {
  const { id, base, snapshot, book, edit } = usePlan();
  const { columns, choose } = useColumns();
  const { busy } = usePresence();
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
  const scroller = useRef<HTMLDivElement>(null);

  const rows = useMemo<Row[]>(() => {
    const findingOf = new Map<string, Finding>();
    for (const finding of [...snapshot.summary.findings, ...snapshot.summary.accepted])
      for (const e of finding.endpoints) if (!findingOf.has(e)) findingOf.set(e, finding);
    return [...snapshot.endpoints.values()].flatMap((endpoint) =>
      endpoint.tags.map((tag) => ({
        endpoint,
        tag,
        finding: tag.verdict === "home" ? undefined : findingOf.get(endpoint.id),
        mark: endpoint.idle ? ("idle" as const) : tag.verdict,
      })),
    );
  }, [snapshot.summary, snapshot.endpoints]);

  const lines = useMemo<Line[]>(() => {
    const named = (segment: string | null): string => book.get("segment", segment)?.name ?? "";
    const asked = matcher(readQuery(text), book, snapshot.summary.off);
    const kept = rows.filter(({ endpoint, tag, mark }) => (!marks.size || marks.has(mark)) && asked.tag(endpoint, tag));
    const keyOf = (row: Row): string =>
      grouping === "verdict"
        ? row.mark
        : grouping === "host"
          ? row.endpoint.host
          : grouping === "segment"
            ? named(row.tag.belongs) || "belongs nowhere yet"
            : "";
    const order = (row: Row): number =>
      grouping === "verdict" ? (row.mark === "idle" ? 10 : 9 - gravity(row.mark)) : 0;
    kept.sort(
      (a, b) =>
        order(a) - order(b) ||
        compareNames(keyOf(a), keyOf(b)) ||
        compareNames(a.endpoint.host, b.endpoint.host) ||
        compareNames(a.endpoint.name, b.endpoint.name),
    );
    if (grouping === "none") return kept.map((row) => ({ row }));
    const made: Line[] = [];
    let group = null as { head: string; count: number } | null;
    for (const row of kept) {
      const head = keyOf(row);
      if (group?.head !== head) {
        group = { head, count: 0 };
        made.push(group);
      }
      group.count += 1;
      made.push({ row });
    }
    return made;
  }, [rows, text, marks, grouping, book, snapshot.summary.off]);

  const virtual = useVirtualizer({
    count: lines.length,
    getScrollElement: () => scroller.current,
    estimateSize: () => ROW,
    overscan: 12,
  });
  const items = virtual.getVirtualItems();

  // The first mend of every finding in sight is worked out when it comes into sight.
  const wanted = [
    ...new Set(
      items.flatMap((i) => {
        const l = lines[i.index];
        return l && "row" in l && l.row.finding ? [l.row.finding.id] : [];
      }),
    ),
  ];
  const details = useQueries({
    queries: wanted.map((finding) => ({
      queryKey: ["finding", id, snapshot.revision, finding],
      queryFn: async () =>
        unwrap(
          await api.GET("/api/plans/{plan_id}/findings/{finding_id}", {
            params: { path: { plan_id: id, finding_id: finding } },
          }),
        ),
    })),
  });
  const mendOf = new Map(wanted.map((f, n) => [f, details[n]?.data?.mends[0]]));
  const open = (finding: Finding): void =>
    setParams(
      (now) => {
        const next = new URLSearchParams(now);
        next.set("finding", finding.id);
        return next;
      },
      { replace: true },
    );
  const shown = lines.filter((l) => "row" in l).length;
  const { grid, least } = useMemo(() => fitting(columns, rows, book), [columns, rows, book]);
  const adapters = useMemo(
    () => [
      ...new Set(lines.flatMap((l) => ("row" in l && l.row.endpoint.kind === "adapter" ? [l.row.endpoint.id] : []))),
    ],
    [lines],
  );
  const inSight = useMemo(
    () => [
      ...new Set(lines.flatMap((l) => ("row" in l && l.row.finding && !held(l.row.finding) ? [l.row.finding.id] : []))),
    ],
    [lines],
  );
  /** What stands in a cell beside its text, or in place of it. */
  const cell = (column: Column, row: Row): { body: ReactNode; title?: string; className?: string } => {
    const { endpoint, tag, finding, mark } = row;
    const segment = book.get("segment", tag.belongs);
    switch (column.id) {
      case "verdict":
        return {
          className: "verdict",
          body: (
            <>
              <VerdictMark mark={mark} /> {mark}
            </>
          ),
        };
      case "endpoint":
        return {
          title: endpoint.key,
          body: (
            <button
              type="button"
              className="cell-link"
              title={`${endpoint.key}: show it on Decks`}
              onClick={() =>
                void navigate({
                  pathname: `${base}/decks`,
                  search: String(
                    createSearchParams({ at: endpoint.id, ...(tag.belongs ? { follow: tag.belongs } : {}) }),
                  ),
                })
              }
            >
              {endpoint.name}
            </button>
          ),
        };
      case "belongs":
        return {
          body: (
            <>
              {segment?.name ?? "not said"} <span className="mono soft">{segment?.vid}</span>
            </>
          ),
        };
      case "lands":
        return {
          className: tag.verdict === "astray" ? "wrong" : undefined,
          body: (
            <>
              {landsOn(row, book)} <span className="mono soft">{tag.lands_vid || ""}</span>
            </>
          ),
        };
      case "could": {
        const beyond = (book.could[endpoint.id] ?? []).map((s) => book.get("segment", s)!);
        return {
          className: beyond.length ? "wrong" : "soft",
          title: beyond.length
            ? `By sending what it isn’t meant to it could hear or reach ${beyond.map((s) => s.name).join(", ")}`
            : undefined,
          body: beyond.length > 1 ? `${beyond.length} VIDs` : (beyond[0]?.vid ?? beyond[0]?.name),
        };
      }
      case "address":
      case "gateway": {
        const own = tag.addresses.length ? tag.addresses : tag.lease ? [tag.lease] : [];
        const known = (column.id === "address" ? own : segment?.gateways) ?? [];
        if (!own.length || !known.length) return { title: known.join(" "), body: column.text(row, book) };
        const a = frameEnd(endpoint, tag.tag);
        const asked: Record<string, string> = column.id === "address" ? { a } : { a, b: known[0]! };
        const says = column.id === "address" ? "ping somebody from here" : "ping it from here";
        return {
          body: (
            <button
              type="button"
              className="cell-link mono"
              title={`${known.join(" ")}: ${says}`}
              onClick={() => void navigate({ pathname: `${base}/trace`, search: String(createSearchParams(asked)) })}
            >
              {column.text(row, book)}
            </button>
          ),
        };
      }
      case "mend":
        return { className: "mend-cell", body: finding && mendCell(finding) };
      default: {
        const text = column.text(row, book);
        return { title: text || undefined, body: text };
      }
    }
  };
  const mendCell = (finding: Finding): ReactNode => {
    const mend = mendOf.get(finding.id);
    if (!mend)
      return (
        <button type="button" className="cell-link" onClick={() => open(finding)}>
          {finding.title}
        </button>
      );
    const says = `${mend.title}: ${sayMoves(mend.tally)}`;
    return (
      <>
        <button
          type="button"
          className="take"
          disabled={busy}
          title={says}
          aria-label={`Take the mend: ${mend.title}`}
          onClick={() => void edit(mend.title, mend.edit)}
        >
          Take
        </button>
        <button type="button" className="cell-link" title={says} onClick={() => open(finding)}>
          {mend.title}
        </button>
      </>
    );
  };
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
            Pick {adapters.length === 1 ? "the adapter" : `the ${adapters.length} adapters`}
          </Button>
        )}
        <ColumnMenu shown={columns} choose={choose} />
        <MendAll findings={inSight} />
      </div>
      <div
        className="table"
        role="table"
        aria-label="Landing of every endpoint"
        aria-rowcount={lines.length + 1}
        style={{ "--columns": grid, "--least": `${least}px` } as CSSProperties}
      >
        <div className="row head" role="row">
          {columns.map((column) => (
            <span key={column.id} role="columnheader" title={column.hint}>
              {column.title}
            </span>
          ))}
        </div>
        {!shown && (
          <div role="row" className="nothing">
            <span role="cell">
              {rows.length
                ? "No endpoint matches this filter."
                : "No endpoint yet: guests' adapters and host ports stand here once the plan has some."}
            </span>
          </div>
        )}
        <div
          className="body"
          ref={scroller}
          role={shown ? "rowgroup" : "presentation"}
          tabIndex={shown ? 0 : undefined}
          aria-label={shown ? "Endpoints" : undefined}
        >
          <div style={{ height: virtual.getTotalSize(), position: "relative" }} role="presentation">
            {items.map((item) => {
              const line = lines[item.index]!;
              const style = { transform: `translateY(${item.start}px)`, height: ROW };
              if ("head" in line) {
                return (
                  <div key={item.key} className="row group" role="row" style={style} aria-rowindex={item.index + 2}>
                    <span role="cell">
                      {grouping === "verdict" && <VerdictMark mark={line.head as Mark} />} {line.head}{" "}
                      <em>{line.count}</em>
                    </span>
                  </div>
                );
              }
              const { row } = line;
              return (
                <div key={item.key} className="row" role="row" style={style} aria-rowindex={item.index + 2}>
                  {columns.map((column) => {
                    const { className, title, body } = cell(column, row);
                    const words = [column.mono && "mono", className].filter(Boolean).join(" ");
                    return (
                      <span key={column.id} role="cell" className={words || undefined} title={title}>
                        {body}
                      </span>
                    );
                  })}
                </div>
              );
            })}
          </div>
        </div>
      </div>
      <p className="table-foot">
        {shown} of {rows.length} places shown
        {params.get("finding") ? "; the open finding stands in the verdict column" : ""}
      </p>
    </div>
  );
}
