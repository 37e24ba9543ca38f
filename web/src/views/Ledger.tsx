import "../ledger/ledger.css";

import { Button, HStack, NativeSelect, Text } from "@chakra-ui/react";
import { useCallback, useMemo, useState } from "react";

import { usePlan } from "../api/plan";
import { fieldsOf } from "../decks/fields";
import { Band } from "../ledger/Band";
import { cellOf, freeSubnet, freeVid, holders, marksOf } from "../ledger/marks";
import { Ribbon } from "../ledger/Ribbon";
import { TakeSheet } from "../ledger/TakeSheet";
import { FRESH, shownText, useTyped } from "../ledger/useTyped";
import { counted } from "../model/kinds";
import { compareNames, DEFINED, sourceOf } from "../model/records";
import { MARKS } from "../model/verdicts";
import { SheetGrid, type CellMark, type SheetColumn, type SheetRow } from "../parts/SheetGrid";

const COLUMNS: readonly SheetColumn[] = [
  { id: "name", name: "Name", size: 140 },
  { id: "role", name: "Role", size: 92 },
  { id: "vid", name: "VID", size: 52 },
  { id: "vni", name: "VNI", size: 56 },
  { id: "subnets", name: "Subnets", size: 130 },
  { id: "gateways", name: "Gateways", size: 100 },
  { id: "lease_servers", name: "Lease servers", size: 106 },
  { id: "mtu", name: "MTU", size: 54 },
  { id: "ranges", name: "Ranges", size: 200 },
  { id: "source", name: "Source", size: 110, told: true },
  { id: "stands", name: "Adapters", size: 168, told: true },
  { id: "note", name: "Note", size: 170 },
  { id: "owner", name: "Owner", size: 110 },
  { id: "encapsulation", name: "Overlay", size: 70 },
];

/** The segment sheet: worked like one, with the VIDs and the address space beside it. */
export function Ledger() {
  const { book, at, edit, snapshot } = usePlan();
  const { segment, reservation } = book.records;
  const typed = useTyped();
  const [role, setRole] = useState("");
  const [taking, setTaking] = useState(false);
  const holding = useMemo(() => holders(book.records), [book.records]);
  const marks = useMemo(() => marksOf(segment, reservation), [segment, reservation]);

  // Rows stay where they are while somebody types; new ones come below.
  const [order, setOrder] = useState<string[]>([]);
  const known = new Set(segment.map((s) => s.id));
  const placed = new Set(order);
  const come = segment
    .filter((s) => !placed.has(s.id))
    .sort((a, b) => (a.vid ?? 5000) - (b.vid ?? 5000) || compareNames(a.name, b.name))
    .map((s) => s.id);
  if (come.length || order.some((id) => !known.has(id))) setOrder([...order.filter((id) => known.has(id)), ...come]);

  const stands = useMemo(() => {
    const found = new Map<string, string>();
    for (const { id } of segment) {
      const verdicts = book.of("adapter", "belongs", id).map((a) => snapshot.endpoints.get(a.id)?.verdict);
      const counts = Map.groupBy(verdicts, (verdict) => verdict);
      const told = MARKS.flatMap((m) => (counts.has(m as never) ? [`${counts.get(m as never)!.length} ${m}`] : []));
      found.set(id, told.join(", "));
    }
    return found;
  }, [segment, book, snapshot.endpoints]);

  const { text, rows: begun } = typed;
  const rows = useMemo<SheetRow[]>(() => {
    const fields = fieldsOf("segment", book);
    const made = order.flatMap((id): SheetRow[] => {
      const own = book.get("segment", id);
      if (!own) return [];
      const cells = fields.map((field) => [field.name, text(id, field.name) ?? shownText(field, own)]);
      const from = sourceOf(book, own) + (own.vanished ? ", vanished" : "");
      return [{ ...Object.fromEntries(cells), id, stands: stands.get(id) ?? "", source: from } as SheetRow];
    });
    if (at !== undefined) return made;
    const fresh = (id: string): SheetRow =>
      ({
        ...Object.fromEntries(fields.map(({ name }) => [name, text(id, name) ?? ""])),
        id,
        stands: "",
        source: "",
      }) as SheetRow;
    const next = begun.length ? Math.max(...begun.map((id) => Number(id.slice(FRESH.length)))) + 1 : 0;
    return [...made, ...begun.map(fresh), fresh(`${FRESH}${next}`)];
  }, [order, book, text, stands, begun, at]);

  const { problem } = typed;
  const mark = useCallback(
    (row: string, column: string): CellMark | undefined => problem(row, column) ?? marks.get(cellOf(row, column)),
    [problem, marks],
  );
  const held = useCallback(
    (row: string, column: string): string => {
      const own = DEFINED.includes(column) ? book.get("segment", row) : undefined;
      return own?.source ? `${sourceOf(book, own)} says it: it changes with a reading of that` : "";
    },
    [book],
  );
  const fresh = useCallback(
    (n: number) => {
      const last = rows.at(-1)?.id ?? "";
      return `${FRESH}${(last.startsWith(FRESH) ? Number(last.slice(FRESH.length)) : -1) + 1 + n}`;
    },
    [rows],
  );

  const roles = [...new Set(segment.map((s) => s.role ?? "").filter(Boolean))].sort(compareNames);
  const vid = freeVid(segment, holding, role);
  const subnet = freeSubnet(segment, reservation, role);
  const odd = [...marks.values()].filter(({ tone }) => tone === "bad").length;
  const take = (): void => {
    const id = `${FRESH}${rows.length}`;
    typed.put([
      { row: id, column: "role", text: role },
      { row: id, column: "vid", text: String(vid ?? "") },
      { row: id, column: "subnets", text: subnet ?? "" },
    ]);
  };
  return (
    <div className="ledger">
      <HStack gap="4" wrap="wrap" px="3" py="1.5" className="ledger-tools">
        <Text fontSize="13px">
          {counted("segment", segment.length)}
          {segment.length === 0 && ": type a name below, or paste rows from a spreadsheet"}
          {odd > 0 && <b className="ledger-odd">, {odd} cells that can’t be right</b>}
        </Text>
        <HStack gap="1.5" fontSize="13px">
          <span>Next free</span>
          {roles.length > 0 && (
            <NativeSelect.Root size="xs" width="130px">
              <NativeSelect.Field
                aria-label="Next free for role"
                value={role}
                onChange={(e) => setRole(e.target.value)}
              >
                <option value="">for any role</option>
                {roles.map((r) => (
                  <option key={r} value={r}>
                    for {r}
                  </option>
                ))}
              </NativeSelect.Field>
              <NativeSelect.Indicator />
            </NativeSelect.Root>
          )}
          <span className="mono">
            {vid === null ? "no VID is free" : `VID ${vid}`}
            {subnet && `, ${subnet}`}
          </span>
          <Button size="xs" variant="outline" disabled={at !== undefined} onClick={take}>
            Begin a row with them
          </Button>
        </HStack>
        <Button
          size="xs"
          variant="outline"
          disabled={at !== undefined}
          aria-expanded={taking}
          onClick={() => setTaking(!taking)}
        >
          Take a sheet
        </Button>
      </HStack>
      {taking && <TakeSheet close={() => setTaking(false)} />}
      <Ribbon />
      <Band />
      <div className="ledger-sheet">
        <SheetGrid
          label="Segments"
          columns={COLUMNS}
          rows={rows}
          mark={mark}
          held={held}
          put={typed.put}
          fresh={fresh}
        />
      </div>
      {reservation.length > 0 && (
        <HStack as="ul" aria-label="Kept free" className="ledger-kept" gap="3" wrap="wrap" px="3" py="1">
          {reservation.map((kept) => (
            <li key={kept.id}>
              {kept.vids && `VID ${kept.vids}`} {kept.subnets?.join(", ")} kept for {kept.name}
              <Button
                size="2xs"
                variant="plain"
                aria-label={`Keep ${kept.name} no longer`}
                onClick={() =>
                  void edit(`Keep ${kept.name} no longer`, [{ op: "drop", kind: "reservation", id: kept.id }])
                }
              >
                ×
              </Button>
            </li>
          ))}
        </HStack>
      )}
    </div>
  );
}
