import { Box, Button, Heading, HStack, Menu, Portal } from "@chakra-ui/react";
import { useState, type ReactNode } from "react";

import type { RecordOf } from "../api/client";
import { usePlan, usePresence } from "../api/plan";
import { patch } from "../decks/edits";
import { fieldsOf, patternUplinks, type Draft } from "../decks/fields";
import { freshId, put } from "../decks/making";
import { FieldForm } from "../decks/Panel";
import { TeamOrder } from "../decks/TeamOrder";
import { Quiet } from "../parts/controls";
import { tagText } from "../model/ports";
import { titled, type PatternKind } from "../model/kinds";
import { compareNames, speed, spokenVids, type Book } from "../model/records";

type Part = Exclude<PatternKind, "pattern">;

/** What is open: a part that is changed, or one that is being made on another one. */
type Open = { id: string } | { make: Exclude<Part, "pattern_order">; on: string } | null;

const nth = (n: number): string => `${n}${["th", "st", "nd", "rd"][n % 100 > 10 && n % 100 < 14 ? 0 : n % 10] ?? "th"}`;

/** How a NIC of the pattern is found on a host, in words. */
function found(nic: RecordOf<"pattern_nic">): string {
  const said = [
    nic.named ? `named ${nic.named}` : "",
    nic.speed ? `of ${speed(nic.speed)}` : "",
    nic.carried ? `whose port carries ${nic.carried}` : "",
  ].filter(Boolean);
  if (nic.place)
    return `the ${nth(nic.place)} ${said.length ? `of those ${said.join(" and ")}` : "in the order of names"}`;
  return said.length ? `the one ${said.join(" and ")}` : `the one named ${nic.name}`;
}

function uplinkText(book: Book, uplink: RecordOf<"pattern_uplink">): string {
  const nics = book.of("pattern_nic", "uplink", uplink.id);
  const members = [...nics].sort((a, b) => (a.rank ?? 0) - (b.rank ?? 0)).map((n) => n.name);
  const lets = uplink.members ?? uplink.allowed;
  return [
    uplink.over ? "over another one’s NICs" : (uplink.mode ?? "standby"),
    members.length ? members.join(", ") : uplink.over ? "" : "no NIC yet",
    lets == null ? "every VID" : `lets through ${spokenVids(lets)}`,
  ]
    .filter(Boolean)
    .join("; ");
}

function portText(book: Book, port: RecordOf<"pattern_host_port">): string {
  const segment = book.get("segment", port.belongs)?.name;
  const addresses = (port.addresses ?? []).join(", ");
  return [
    port.vid ? `tag ${port.vid}` : "untagged",
    addresses ? `${addresses} and on from there` : "no address",
    segment ? `belongs on ${segment}` : "",
  ]
    .filter(Boolean)
    .join("; ");
}

function groupText(book: Book, group: RecordOf<"pattern_port_group">): string {
  const orders = book.of("pattern_order", "port_group", group.id);
  const said = orders.map((o) => `${book.get("pattern_nic", o.nic)?.name ?? ""} ${o.role ?? "active"}`);
  return [tagText(group), ...said.sort(compareNames)].join("; ");
}

/** What a pattern says, part by part; each opens in place. */
export function Parts({ pattern }: { pattern: RecordOf<"pattern"> }) {
  const { book } = usePlan();
  const [open, setOpen] = useState<Open>(null);
  const switches = book.of("pattern_switch", "pattern", pattern.id);
  const nics = book.of("pattern_nic", "pattern", pattern.id);
  const byName = <R extends { name: string }>(list: readonly R[]): R[] =>
    [...list].sort((a, b) => compareNames(a.name, b.name));
  const line = (kind: Part, id: string, name: string, detail: string, deep = false): ReactNode => (
    <PartLine key={id} kind={kind} id={id} name={name} detail={detail} deep={deep} open={open} setOpen={setOpen} />
  );
  const making = (on: string): ReactNode =>
    open && "make" in open && open.on === on ? (
      <MakePart key={`${open.make} ${on}`} kind={open.make} on={on} done={() => setOpen(null)} />
    ) : null;
  return (
    <section aria-label="What it says">
      <HStack gap="2" mt="5" mb="1">
        <Heading as="h3" size="sm" fontWeight="600">
          What it says
        </Heading>
        <Button size="2xs" variant="outline" onClick={() => setOpen({ make: "pattern_switch", on: pattern.id })}>
          Add a switch
        </Button>
        <Button size="2xs" variant="outline" onClick={() => setOpen({ make: "pattern_nic", on: pattern.id })}>
          Add a NIC
        </Button>
      </HStack>
      {making(pattern.id)}
      <ul className="patterns-parts">
        {byName(nics).map((nic) => line("pattern_nic", nic.id, nic.name, found(nic)))}
        {byName(switches).map((sw) => [
          line("pattern_switch", sw.id, sw.name, sw.mtu ? `MTU ${sw.mtu}` : "MTU not said"),
          making(sw.id) && <li key={`${sw.id} new`}>{making(sw.id)}</li>,
          ...byName(book.of("pattern_uplink", "switch", sw.id)).map((u) =>
            line("pattern_uplink", u.id, u.name, uplinkText(book, u), true),
          ),
          ...byName(book.of("pattern_host_port", "switch", sw.id)).map((p) =>
            line("pattern_host_port", p.id, p.name, portText(book, p), true),
          ),
          ...byName(book.of("pattern_port_group", "switch", sw.id)).map((g) =>
            line("pattern_port_group", g.id, g.name, groupText(book, g), true),
          ),
        ])}
      </ul>
      {!switches.length && <Quiet>It has no switch yet.</Quiet>}
    </section>
  );
}

const CALLED: Record<Part, string> = {
  pattern_switch: "switch",
  pattern_uplink: "uplink",
  pattern_nic: "NIC",
  pattern_host_port: "host port",
  pattern_port_group: "port group",
  pattern_order: "team order",
};

function PartLine({
  kind,
  id,
  name,
  detail,
  deep,
  open,
  setOpen,
}: {
  kind: Part;
  id: string;
  name: string;
  detail: string;
  deep: boolean;
  open: Open;
  setOpen: (open: Open) => void;
}) {
  const { book, gesture } = usePlan();
  const { busy } = usePresence();
  const mine = open !== null && "id" in open && open.id === id;
  const group = book.get("pattern_port_group", id);
  const close = (): void => setOpen(null);
  return (
    <li className={deep ? "deep" : undefined}>
      <div className="patterns-part">
        <Button
          variant="ghost"
          size="xs"
          className="patterns-part-name"
          aria-expanded={mine}
          onClick={() => setOpen(mine ? null : { id })}
        >
          <span className="quiet">{CALLED[kind]}</span> {name}
        </Button>
        <span className="patterns-detail">{detail}</span>
        {kind === "pattern_switch" && (
          <Menu.Root
            positioning={{ placement: "bottom-end" }}
            onSelect={({ value }) => setOpen({ make: value as "pattern_uplink", on: id })}
          >
            <Menu.Trigger asChild>
              <Button size="2xs" variant="outline" aria-label={`Add to ${name}`}>
                Add
              </Button>
            </Menu.Trigger>
            <Portal>
              <Menu.Positioner>
                <Menu.Content bg="sheet">
                  {(["pattern_port_group", "pattern_host_port", "pattern_uplink"] as const).map((part) => (
                    <Menu.Item key={part} value={part}>
                      {CALLED[part]}
                    </Menu.Item>
                  ))}
                </Menu.Content>
              </Menu.Positioner>
            </Portal>
          </Menu.Root>
        )}
        <Button
          size="2xs"
          variant="ghost"
          color="ink.muted"
          disabled={busy}
          aria-label={`Take ${CALLED[kind]} ${name} out`}
          title="What was stamped of it stays on its hosts, as their own"
          onClick={() => void gesture("take-out", { part: id })}
        >
          Take out
        </Button>
      </div>
      {mine && (
        <Box className="patterns-edit" onKeyDown={(event) => event.key === "Escape" && close()}>
          <FieldForm
            fields={fieldsOf(kind, book, id)}
            record={book.byId.get(id)}
            compose={(set) => [patch(kind, id, set)]}
            message={() => `Change ${CALLED[kind]} ${name} of the pattern`}
            done={close}
          />
          {group && (
            <>
              <Heading as="h4" size="xs" fontWeight="600" mt="3" mb="1">
                Team order
              </Heading>
              <TeamOrder group={group} done={close} />
            </>
          )}
        </Box>
      )}
    </li>
  );
}

/** A new part, on a pattern or on one of its switches. */
function MakePart({ kind, on, done }: { kind: Exclude<Part, "pattern_order">; on: string; done: () => void }) {
  const { book } = usePlan();
  const own = book.get("pattern_switch", on);
  const owner = own ? { switch: on } : { pattern: on };
  const first: Draft = kind === "pattern_port_group" ? { mode: "access", ...owner } : owner;
  return (
    <Box className="patterns-edit" onKeyDown={(event) => event.key === "Escape" && done()}>
      <Quiet>{`${titled(kind).replace("Pattern’s ", "A new ")}${own ? ` on ${own.name}` : ""}`}</Quiet>
      <FieldForm
        making
        fields={fieldsOf(kind, book).map((f) =>
          f.name === "uplink" ? { ...f, options: patternUplinks(book, on) } : f,
        )}
        record={first}
        compose={(set) => [put(kind, { id: freshId(book, `${on}/${String(set.name ?? kind)}`), ...first, ...set })]}
        message={(set) => `Add ${CALLED[kind]} ${String(set.name ?? "")} to the pattern`}
        done={done}
        action="Add it"
      />
    </Box>
  );
}
