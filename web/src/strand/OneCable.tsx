import { Box, Button, HStack, Table, Text } from "@chakra-ui/react";
import { useQuery } from "@tanstack/react-query";
import { useState } from "react";

import { api, unwrap, type Carried } from "../api/client";
import { usePlan } from "../api/plan";
import { patch } from "../decks/edits";
import { fieldsOf } from "../decks/fields";
import { GestureForm } from "../decks/Gestures";
import { FieldForm } from "../decks/Panel";
import { speed, type Book } from "../model/records";
import { LinkButton, Quiet } from "../parts/controls";
import { endsOf } from "./rows";

const NEEDS: Record<Carried["need"], string> = {
  needed: "needed",
  perhaps: "perhaps",
  spare: "by nobody",
  lacking: "needed, and lacking",
};
const NEED_SAYS: Record<Carried["need"], string> = {
  needed: "A way between two who have this tag leads over the cable, today or after a failover.",
  perhaps: "Nobody of whom the plan knows needs it; behind an open end, or round a circle, somebody might.",
  spare: "No way between two who have this tag leads over the cable.",
  lacking: "Somebody at one end has this tag, and the other end drops it.",
};

/** One cable alone: which tags it carries, who needs them, and what somebody who taps it would read. */
export function OneCable({ cable }: { cable: { id: string; a: string; b: string } }) {
  const { id, at, book, snapshot } = usePlan();
  const [pruning, setPruning] = useState<"this" | "all" | null>(null);
  const asked = useQuery({
    queryKey: ["cable-alone", id, at, snapshot.revision, cable.id],
    queryFn: async () =>
      unwrap(
        await api.GET("/api/plans/{plan_id}/cable-alone", {
          params: { path: { plan_id: id }, query: { cable: cable.id } },
        }),
      ),
    placeholderData: (before) => before,
  });
  if (asked.error) return <p role="alert">{asked.error.message}</p>;
  if (!asked.data) return <p role="status">Looking who needs what on this cable…</p>;
  // Tags that one end lets out, and on which nobody is anywhere: told in one line.
  const idle = asked.data.filter((r) => r.need === "spare" && !r.reads && !r.near && !r.far);
  const rows = asked.data.filter((r) => !idle.includes(r));
  const spare = rows.filter((r) => r.need === "spare");
  const readable = rows.filter((r) => r.reads > 0);
  const [one, two] = endsOf(book, cable);
  return (
    <div className="strand-one">
      <Text fontSize="15px" fontWeight="600">
        {one} – {two}
      </Text>
      <Quiet>{[speedOf(book, cable), ...lagsOf(book, cable)].filter(Boolean).join(", ")}</Quiet>
      <Labelled key={cable.id} id={cable.id} />
      <Text my="1.5" fontSize="13px" aria-live="polite">
        {asked.data.length === 0
          ? "Nothing passes: an end is disabled, or its link is down."
          : readable.length === 0
            ? "Nobody whom the plan knows would be read by a tap here."
            : `A tap here reads the broadcasts of ${told(readable)}.`}
      </Text>
      {at === undefined && (
        <HStack my="2" gap="2">
          <Button
            size="xs"
            variant="outline"
            disabled={!spare.length}
            aria-expanded={pruning === "this"}
            onClick={() => setPruning(pruning === "this" ? null : "this")}
          >
            Prune this cable
          </Button>
          <Button
            size="xs"
            variant="outline"
            aria-expanded={pruning === "all"}
            onClick={() => setPruning(pruning === "all" ? null : "all")}
          >
            Prune every trunk
          </Button>
        </HStack>
      )}
      {pruning && (
        <GestureForm
          key={`${pruning} ${cable.id}`}
          name="prune"
          args={{ cables: pruning === "this" ? [cable.id] : book.records.cable.map((c) => c.id) }}
          ready
          action={pruning === "this" ? "Prune this cable" : "Prune every trunk"}
          done={() => setPruning(null)}
        >
          <Quiet>
            {pruning === "this"
              ? `Takes ${spare
                  .map((r) => r.vids)
                  .filter(Boolean)
                  .join(", ")} off the lists of its ports, and of their LAGs.`
              : "Takes off every port’s list what nobody needs there; what an open end might need stays."}
          </Quiet>
        </GestureForm>
      )}
      {rows.length > 0 && (
        <Table.ScrollArea tabIndex={0}>
          <Table.Root size="sm" className="strand-table" aria-label="What the cable carries">
            <Table.Header>
              <Table.Row>
                {["Tag", "Segment", "Passes", "Needed", `Behind ${one}`, `Behind ${two}`].map((h) => (
                  <Table.ColumnHeader key={h} title={h}>
                    {h}
                  </Table.ColumnHeader>
                ))}
                <Table.ColumnHeader textAlign="end">A tap reads</Table.ColumnHeader>
              </Table.Row>
            </Table.Header>
            <Table.Body>
              {rows.map((row) => (
                <Table.Row key={row.vids}>
                  <Table.Cell className="mono">
                    {row.vids || "untagged"}
                    {inside(row) && <span className="soft"> {inside(row)}</span>}
                  </Table.Cell>
                  <Table.Cell>
                    {row.segments.map((s) => book.get("segment", s)?.name).join(", ") || (
                      <span className="soft">–</span>
                    )}
                  </Table.Cell>
                  <Table.Cell>{passes(row, one, two)}</Table.Cell>
                  <Table.Cell className={`strand-${row.need}`} title={NEED_SAYS[row.need]}>
                    {NEEDS[row.need]}
                  </Table.Cell>
                  <Table.Cell title={row.names[0]?.join(", ")}>{who(row, 0)}</Table.Cell>
                  <Table.Cell title={row.names[1]?.join(", ")}>{row.around ? "the same" : who(row, 1)}</Table.Cell>
                  <Table.Cell textAlign="end" className="mono">
                    {row.reads}
                  </Table.Cell>
                </Table.Row>
              ))}
            </Table.Body>
          </Table.Root>
        </Table.ScrollArea>
      )}
      {idle.length > 0 && (
        <Text my="1.5" fontSize="12px" color="fg.muted" overflowWrap="anywhere">
          Let out by an end, with nobody on them: {idle.map((r) => r.vids || "untagged").join(", ")}.
        </Text>
      )}
    </div>
  );
}

/** What is written on the cable, where it is patched, and what people say of it. */
function Labelled({ id }: { id: string }) {
  const { at, book } = usePlan();
  const [typing, setTyping] = useState(false);
  const cable = book.get("cable", id);
  if (!cable) return null;
  const said = [
    cable.label && `Label ${cable.label}`,
    cable.places?.length && `over ${cable.places.join(", ")}`,
    cable.note,
    cable.owner && `owner ${cable.owner}`,
  ].filter(Boolean);
  return (
    <>
      <HStack my="1" gap="2" fontSize="13px" wrap="wrap">
        <span>{said.join("; ") || "No label yet."}</span>
        {at === undefined && (
          <LinkButton aria-expanded={typing} onClick={() => setTyping(!typing)}>
            {said.length ? "Change" : "Label it"}
          </LinkButton>
        )}
      </HStack>
      {typing && (
        <Box maxW="420px" mb="2">
          <FieldForm
            fields={fieldsOf("cable", book).map((field) => ({ ...field, more: false }))}
            record={{ ...cable }}
            compose={(set) => [patch("cable", id, set)]}
            message={() => "Label a cable"}
            done={() => setTyping(false)}
          />
        </Box>
      )}
    </>
  );
}

/** Which way frames pass, or where they are dropped. */
function passes(row: Carried, one: string, two: string): string {
  if (row.there === "passes" && row.back === "passes") return "both ways";
  if (row.there === "passes") return `from ${one} alone`;
  if (row.back === "passes") return `from ${two} alone`;
  if (row.there === "dropped" && row.back === "dropped") return "dropped at both ends";
  return `dropped by ${row.there === "dropped" ? two : one}`;
}

/** The VIDs within the switches, where they aren't the one on the wire. */
function inside(row: Carried): string {
  const [near, far] = row.inside.map((vid) => (vid ? String(vid) : "untagged"));
  if (row.there !== "passes" && row.back !== "passes") return "";
  if (near === far && (near === row.vids || !row.vids)) return row.vids ? "" : `(${near})`;
  return near === far ? "" : `(${near} and ${far})`;
}

function who(row: Carried, side: 0 | 1): string {
  const count = side ? row.far : row.near;
  const names = row.names[side] ?? [];
  if (!count) return "nobody";
  if (count === 1) return names[0] ?? "1";
  return `${count}: ${names.slice(0, 2).join(", ")}${count > 2 ? " …" : ""}`;
}

function told(rows: readonly Carried[]): string {
  const most = [...rows].sort((a, b) => b.reads - a.reads);
  const some = most.slice(0, 3).map((r) => `${r.reads} on ${r.vids || "untagged frames"}`);
  return `${some.join(", ")}${most.length > 3 ? ` and of others on ${most.length - 3} more tags` : ""}`;
}

function speedOf(book: Book, cable: { a: string; b: string }): string {
  const speeds = [cable.a, cable.b].map((end) => (book.get("nic", end) ?? book.get("fabric_port", end))?.speed ?? 0);
  const known = speeds.filter(Boolean);
  return known.length ? speed(Math.min(...known)) : "";
}

const lagsOf = (book: Book, cable: { a: string; b: string }): string[] =>
  [cable.a, cable.b].flatMap((end) => {
    const lag = book.get("lag", book.get("fabric_port", end)?.lag);
    return lag ? [`LAG ${lag.name} of ${book.get("fabric_switch", lag.switch)?.name ?? ""}`] : [];
  });
