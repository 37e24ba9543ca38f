import "../lattice/lattice.css";

import { Button, Heading, HStack, Input, Text } from "@chakra-ui/react";
import type { ColumnRegular } from "@revolist/react-datagrid";
import { useQuery } from "@tanstack/react-query";
import { useMemo, useState } from "react";
import { Link } from "react-router";

import { api, unwrap } from "../api/client";
import { usePlan } from "../api/plan";
import { GestureForm } from "../decks/Gestures";
import { stateOf, STATES, tally } from "../lattice/states";
import { compareNames } from "../model/records";
import { Quiet } from "../parts/controls";
import { Grid, type Heard } from "../parts/Grid";

interface Row {
  id: string;
  name: string;
  letters: string;
}

/** Segments by hosts: a row reads as consistency across the fleet, a column as a host's fitness to take guests. */
export function Lattice() {
  const { id, at, base, book, snapshot } = usePlan();
  const asked = useQuery({
    queryKey: ["lattice", id, at, snapshot.revision],
    queryFn: async () => unwrap(await api.GET("/api/plans/{plan_id}/lattice", { params: { path: { plan_id: id } } })),
    placeholderData: (before) => before,
  });
  const [onHosts, setOnHosts] = useState("");
  const [onSegments, setOnSegments] = useState("");
  const [uneven, setUneven] = useState(false);
  const [picked, setPicked] = useState<{ segment: string; host: string } | null>(null);
  const [giving, setGiving] = useState(false);

  const hosts = useMemo(() => {
    const wanted = onHosts.trim().toLowerCase();
    return (asked.data?.hosts ?? [])
      .map((host, at) => ({ id: host, at, name: book.get("host", host)?.name ?? host }))
      .filter(({ name }) => name.toLowerCase().includes(wanted));
  }, [asked.data, onHosts, book]);
  const rows = useMemo<Row[]>(() => {
    const wanted = onSegments.trim().toLowerCase();
    return Object.entries(asked.data?.rows ?? {})
      .map(([segment, letters]) => {
        const own = book.get("segment", segment);
        const tag = own?.vid ?? (own?.vni ? `VNI ${own.vni}` : "untagged");
        return { id: segment, name: `${own?.name ?? segment} ${tag}`, letters };
      })
      .filter(({ name, letters }) => {
        if (!name.toLowerCase().includes(wanted)) return false;
        // Even is a row in which everybody who offers it carries it, and nobody is off a pattern.
        return !uneven || /[suxlSUXLCRQ-]/.test(letters);
      })
      .sort((a, b) => compareNames(a.name, b.name));
  }, [asked.data, onSegments, uneven, book]);
  const columns = useMemo<ColumnRegular[]>(() => {
    const drawn = ({ model, prop }: { model: Row; prop: string | number }) =>
      stateOf(model.letters[Number(String(prop).slice(1))] ?? ".");
    return [
      { prop: "name", name: "Segment", size: 190, pin: "colPinStart", readonly: true },
      ...hosts.map(({ at: number, name }): ColumnRegular => ({
        prop: `h${number}`,
        name,
        size: 30,
        readonly: true,
        columnProperties: () => ({ title: name, class: "lattice-host" }),
        cellProperties: (cell) => {
          const { state, off } = drawn(cell as never);
          const says = `${state.word}${off ? ", off pattern" : ""}`;
          return {
            class: { [`lattice-${state.word.replace(" ", "-")}`]: true, "lattice-off": off },
            "aria-label": says,
          };
        },
        cellTemplate: (h, cell) => h("span", { "aria-hidden": "true" }, drawn(cell as never).state.mark),
      })),
    ];
  }, [hosts]);

  const focused: Heard = (event) => {
    const { detail } = event as CustomEvent<{ model?: Row; column?: { prop: string } }>;
    const number = Number(/^h(\d+)$/.exec(String(detail.column?.prop))?.[1] ?? NaN);
    const host = asked.data?.hosts[number];
    setPicked(detail.model && host ? { segment: detail.model.id, host } : null);
    setGiving(false);
  };
  const entered: Heard = (event) => {
    if ((event as KeyboardEvent).key !== "Enter" || !picked || at !== undefined) return;
    event.preventDefault();
    event.stopPropagation();
    setGiving(true);
  };

  if (asked.error) return <p role="alert">{asked.error.message}</p>;
  if (!asked.data) return <p role="status">Looking at every way of every host…</p>;
  const letter = picked && asked.data.rows[picked.segment]?.[asked.data.hosts.indexOf(picked.host)];
  return (
    <div className="lattice">
      <HStack gap="3" px="3" py="1.5" wrap="wrap">
        {(
          [
            ["Segments with", onSegments, setOnSegments],
            ["Hosts with", onHosts, setOnHosts],
          ] as const
        ).map(([label, value, put]) => (
          <HStack key={label} as="label" gap="1.5" fontSize="13px">
            {label}
            <Input size="xs" width="130px" value={value} onChange={(event) => put(event.target.value)} />
          </HStack>
        ))}
        <Button size="xs" variant="outline" aria-pressed={uneven} onClick={() => setUneven(!uneven)}>
          {uneven ? "All rows" : "Uneven rows alone"}
        </Button>
        <Quiet>
          {rows.length} {rows.length === 1 ? "segment" : "segments"} by {hosts.length}{" "}
          {hosts.length === 1 ? "host" : "hosts"}
        </Quiet>
      </HStack>
      <HStack as="ul" aria-label="What the marks say" gap="3" px="3" pb="1.5" wrap="wrap" className="lattice-legend">
        {STATES.filter((state) => state.mark).map((state) => (
          <li key={state.letter} title={state.says}>
            <span className={`lattice-${state.word.replace(" ", "-")}`} aria-hidden>
              {state.mark}
            </span>{" "}
            {state.word}
          </li>
        ))}
        <li title="The host is off a pattern there">
          <span className="lattice-off lattice-swatch" aria-hidden /> off pattern
        </li>
      </HStack>
      <div className="lattice-sheet">
        {rows.length === 0 || hosts.length === 0 ? (
          <Text p="4" color="fg.muted">
            {Object.keys(asked.data.rows).length && asked.data.hosts.length
              ? "Nothing here has these words, or is uneven."
              : "Segments come from the Ledger, hosts from Decks; then this shows who offers which."}
          </Text>
        ) : (
          <Grid
            label="Segments by hosts"
            columns={columns}
            source={rows}
            rowSize={24}
            readonly
            on={{ afterfocus: focused, keydown: entered }}
          />
        )}
      </div>
      <section className="lattice-cell" aria-label="The cell" aria-live="polite">
        {picked && letter ? (
          <OneCell {...picked} letter={letter} giving={giving} give={setGiving} />
        ) : (
          <Quiet>
            Pick a cell: arrows or a click say what it is, Enter gives the host that segment. {tallies(asked.data.rows)}
          </Quiet>
        )}
        {picked && (
          <HStack gap="4" wrap="wrap" fontSize="12px">
            <span>
              <b>{book.get("segment", picked.segment)?.name}</b>: {tally(asked.data.rows[picked.segment] ?? "")}
            </span>
            <span>
              <b>{book.get("host", picked.host)?.name}</b>:{" "}
              {tally(Object.values(asked.data.rows).map((l) => l[asked.data.hosts.indexOf(picked.host)] ?? "."))}
            </span>
            <Link className="plain-link" to={`${base}/decks?at=${encodeURIComponent(picked.host)}`}>
              On Decks
            </Link>
          </HStack>
        )}
      </section>
    </div>
  );
}

/** One cell in words, and what can be done about it. */
function OneCell({
  segment,
  host,
  letter,
  giving,
  give,
}: {
  segment: string;
  host: string;
  letter: string;
  /** Whether the host is to be given the segment: what that would change stands open. */
  giving: boolean;
  give: (giving: boolean) => void;
}) {
  const { at, book } = usePlan();
  const { state, off } = stateOf(letter);
  const names = [book.get("segment", segment)?.name, book.get("host", host)?.name] as const;
  const can = at === undefined && Boolean(book.get("segment", segment)?.vid) && state.letter !== "c";
  return (
    <>
      <Heading as="h2" size="sm" fontWeight="600">
        {names[0]} on {names[1]}: {state.word}
        {off && ", off its pattern"}
      </Heading>
      <Quiet>{state.says}.</Quiet>
      {can && !giving && (
        <Button size="xs" variant="outline" my="1" onClick={() => give(true)}>
          Offer it there
        </Button>
      )}
      {giving && can && (
        <GestureForm
          name="offer"
          args={{ segment, hosts: [host] }}
          ready
          action={`Offer ${names[0]} on ${names[1]}`}
          done={() => give(false)}
        >
          <Quiet>A port group with its VID; the switch’s uplinks and their ports let it through.</Quiet>
        </GestureForm>
      )}
    </>
  );
}

const tallies = (rows: Record<string, string>): string => tally(Object.values(rows).join(""));
