import { Button } from "@chakra-ui/react";
import { useState } from "react";
import { useNavigate } from "react-router";

import type { Kind, Operation, RecordOf } from "../api/client";
import { useActions, usePlan, usePresence } from "../api/plan";
import { compareNames, segmentWith, sourceOf, writtenVids } from "../model/records";
import { LinkButton, Quiet, TakeButton, Taking } from "../parts/controls";
import { Picker } from "./Build";
import { endsOf } from "../strand/rows";
import { tagText } from "../model/ports";
import { MADE_OWN, patch, portName, portsFor, seatsFor, standingAt, unplug, whereabouts, type Proposal } from "./edits";
import { fieldsOf, interfacesOf, ownerOf, type Draft, type FieldSpec } from "./fields";
import { isPatternKind, titled, type PatternKind } from "../model/kinds";
import { drop, dropWhole, freshId, freshMac, freshName, put, uplinksFor } from "./making";
import { BurstBubble, isBubble, MakeBubble } from "./Bubbles";
import { Everywhere, ExchangeNics, IntoSegment, MoveGuest, OwnNics, RouteHere, SplitOff, Spread } from "./Gestures";
import { Sends } from "../load/Sends";
import { Renumber } from "./Renumber";
import { ShieldGuests } from "./Shield";
import { TeamOrder } from "./TeamOrder";
import { FieldForm, Outcome, OutcomeList, Panel, Sections, usePreviews, type Section } from "./Panel";

type Book = ReturnType<typeof usePlan>["book"];

/** What a panel is made of: the record's id and name, its settings and removal, and what else its buttons need. */
interface At {
  id: string;
  name: string;
  book: Book;
  settings: Section;
  remove: Section;
  ids: { book: Book; done: () => void; open: (id: string) => void };
  take: (proposal: Proposal) => void;
  build: (host: string, onto: string | null) => void;
  compare: (host: string) => void;
  /** Leave for another view of the plan. */
  go: (address: string) => void;
}

interface Shape {
  title?: string;
  sections: Section[];
}

const plain = ({ settings, remove }: At): Shape => ({ sections: [settings, remove] });

/** One that may send. */
const sender = ({ id, settings, remove, ids }: At): Shape => ({ sections: [settings, sending(id, ids), remove] });

/** What belongs to patterns is made and taken away under Patterns. */
const bare = ({ settings }: At): Shape => ({ sections: [settings] });

const sending = (id: string, ids: At["ids"]): Section => ({ label: "Sends", body: <Sends id={id} open={ids.open} /> });

const pinging = (id: string, go: At["go"]): Section => ({
  label: "Ping",
  body: <Doors doors={[["Ask whom it reaches, and over what", () => go(`trace?a=${encodeURIComponent(id)}`)]]} />,
});

/** What can be done with a record of each kind. */
const PANELS: { [K in Kind]: (at: At) => Shape } = {
  adapter: ({ id, name, book, settings, remove, ids, take, go }) => {
    const adapter = book.get("adapter", id)!;
    const direct = adapter.type === "direct";
    const past = <Quiet>It goes past the switch: guards, limits and mirrors don’t apply to it.</Quiet>;
    return {
      title: `${name} of ${book.get("guest", adapter.guest)?.name ?? ""}`,
      sections: [
        { label: "Move", body: <Move id={id} take={take} /> },
        direct
          ? {
              ...settings,
              body: (
                <>
                  {past}
                  {settings.body}
                </>
              ),
            }
          : settings,
        { label: "Tags", body: <GuestTags id={id} {...ids} /> },
        pinging(id, go),
        sending(id, ids),
        ...(direct ? [] : [{ label: "Mirror", body: <Mirrors id={id} {...ids} /> }]),
        remove,
      ],
    };
  },
  nic: ({ id, book, settings, remove, ids, take }) => {
    const nic = book.get("nic", id)!;
    const gone = unplug(book, nic);
    const ports = [...portsFor(book, nic), ...(gone ? [gone] : [])];
    return {
      title: `${book.get("host", nic.host)?.name ?? ""} ${nic.name}`,
      sections: [
        {
          label: "Cable",
          body: <Recable proposals={ports} take={take} empty="No fabric port at its site is free." id={id} {...ids} />,
        },
        {
          label: "Uplink",
          body: (
            <OutcomeList
              label="Uplinks"
              proposals={uplinksFor(book, nic)}
              endpoint={null}
              take={take}
              empty="This host has no switch with an uplink yet."
            />
          ),
        },
        { label: "Exchange", body: <ExchangeNics id={id} {...ids} /> },
        settings,
        remove,
      ],
    };
  },
  fabric_port: ({ id, book, settings, remove, ids, take }) => {
    const port = book.get("fabric_port", id)!;
    const nic = book.get("nic", book.far.get(id)?.id);
    const sections = [settings];
    if (nic)
      sections.push({
        label: "Cable",
        body: (
          <Recable
            proposals={portsFor(book, nic)}
            take={take}
            empty="No other port at this site is free."
            id={id}
            {...ids}
          />
        ),
      });
    else if (book.far.has(id)) sections.push({ label: "Cable", body: <CableDoor id={id} {...ids} /> });
    else
      sections.push(
        { label: "Plug in", body: <PlugIn id={id} {...ids} /> },
        { label: "Station", body: <Stations id={id} {...ids} /> },
        { label: "Into a segment", body: <IntoSegment id={id} {...ids} /> },
      );
    sections.push({
      ...remove,
      body: <Remove kind="fabric_port" id={id} name={`port ${port.name}`} done={ids.done} />,
    });
    return { title: `Port ${port.name} of ${book.get("fabric_switch", port.switch)?.name ?? ""}`, sections };
  },
  port_group: ({ id, book, settings, remove, ids }) => ({
    sections: [
      settings,
      { label: "Attach", body: <Attach id={id} {...ids} /> },
      { label: "Team order", body: <TeamOrder group={book.get("port_group", id)!} done={ids.done} /> },
      sending(id, ids),
      remove,
    ],
  }),
  virtual_switch: ({ id, book, settings, remove, ids, build }) => {
    const host = book.get("virtual_switch", id)!.host;
    return {
      sections: [
        {
          label: "Build",
          body: <Doors doors={[["Take NICs, add a port group, attach guests", () => build(host, id)]]} />,
        },
        { label: "Host port", body: <NewHostPort id={id} {...ids} /> },
        { label: "Split off", body: <SplitOff id={id} {...ids} /> },
        settings,
        remove,
      ],
    };
  },
  host: ({ id, book, settings, remove, ids, build, compare, go }) => ({
    sections: [
      {
        label: "Build",
        body: (
          <Doors
            doors={[
              ["A new switch, its NICs, port group and guests", () => build(id, null)],
              ["Lay it beside another host", () => compare(id)],
              ["Make a pattern of it", () => go(`patterns?like=${id}`)],
              ...(book.records.pattern.length
                ? [["Stamp a pattern on it", () => go(`patterns?stamp=${id}`)] as [string, () => void]]
                : []),
              ["See which cores serve its NICs", () => go(`queues?host=${encodeURIComponent(id)}`)],
              ["See where its guests go when it is taken out", () => go(`moves?out=${encodeURIComponent(id)}`)],
            ]}
          />
        ),
      },
      { label: "Guest", body: <NewGuest id={id} {...ids} /> },
      { label: "NIC", body: <NewNic id={id} {...ids} /> },
      { label: "BMC", body: <Controller id={id} {...ids} /> },
      { label: "Cores", body: <Cores id={id} {...ids} /> },
      { label: "Behind a firewall", body: <ShieldGuests id={id} {...ids} /> },
      { label: "Routes", body: <Routes id={id} {...ids} /> },
      { label: "Filter", body: <Filter id={id} {...ids} /> },
      { label: "Leases", body: <Leases id={id} {...ids} /> },
      { label: "Relay", body: <AtInterfaces id={id} {...ids} of={RELAYS} /> },
      { label: "Advertises", body: <AtInterfaces id={id} {...ids} of={ADVERTISED} /> },
      { label: "Translation", body: <AtInterfaces id={id} {...ids} of={TRANSLATED} /> },
      { label: "Lets in", body: <AtInterfaces id={id} {...ids} of={LET_IN} /> },
      settings,
      remove,
    ],
  }),
  guest: ({ id, settings, remove, ids, go }) => ({
    sections: [
      settings,
      { label: "Adapter", body: <NewAdapter id={id} {...ids} /> },
      {
        label: "Move",
        body: (
          <>
            <MoveGuest id={id} {...ids} />
            <Doors doors={[["See where it could run", () => go(`moves?guest=${encodeURIComponent(id)}`)]]} />
          </>
        ),
      },
      { label: "Bubble", body: <MakeBubble guests={[id]} {...ids} /> },
      { label: "Routes", body: <Routes id={id} {...ids} /> },
      { label: "Filter", body: <Filter id={id} {...ids} /> },
      { label: "Leases", body: <Leases id={id} {...ids} /> },
      { label: "Relay", body: <AtInterfaces id={id} {...ids} of={RELAYS} /> },
      { label: "Advertises", body: <AtInterfaces id={id} {...ids} of={ADVERTISED} /> },
      { label: "Translation", body: <AtInterfaces id={id} {...ids} of={TRANSLATED} /> },
      { label: "Lets in", body: <AtInterfaces id={id} {...ids} of={LET_IN} /> },
      remove,
    ],
  }),
  fabric_switch: ({ id, book, settings, remove, ids }) => ({
    sections: [
      settings,
      { label: "Ports", body: <Ports id={id} {...ids} /> },
      { label: "LAG", body: <NewLag id={id} {...ids} /> },
      ...(book.get("fabric_switch", id)!.managed === false
        ? []
        : [{ label: "Route", body: <RouteHere id={id} {...ids} /> }]),
      remove,
    ],
  }),
  segment: ({ id, book, settings, remove, ids }) => {
    const { vid, role, source } = book.get("segment", id)!;
    const bubble = isBubble(book, role)
      ? { label: "Burst", body: <BurstBubble name={role} {...ids} /> }
      : { label: "Bubble", body: <MakeBubble segments={[id]} {...ids} /> };
    const from = source ? [{ label: "Source", body: <FromSource id={id} {...ids} /> }] : [];
    return {
      sections: vid
        ? [
            settings,
            ...from,
            { label: "Everywhere", body: <Everywhere id={id} {...ids} /> },
            { label: "Outside", body: <WaysIn id={id} {...ids} /> },
            ...(source ? [] : [{ label: "Renumber", body: <Renumber id={id} {...ids} /> }]),
            ...(role ? [{ label: "NICs of its own", body: <OwnNics role={role} {...ids} /> }] : []),
            bubble,
            sending(id, ids),
            remove,
          ]
        : [settings, ...from, bubble, sending(id, ids), remove],
    };
  },
  source: plain,
  numa_node: plain,
  secondary_vlan: plain,
  limits: plain,
  assumed_fabric: plain,
  uplink: ({ id, settings, remove, ids }) => ({
    sections: [settings, { label: "Spread", body: <Spread id={id} {...ids} /> }, remove],
  }),
  host_port: ({ id, settings, remove, ids, go }) => ({
    sections: [settings, pinging(id, go), sending(id, ids), remove],
  }),
  group_order: plain,
  mirror: plain,
  guest_tag: sender,
  lag: plain,
  cable: plain,
  station: ({ id, settings, remove, ids }) => ({
    sections: [
      settings,
      { label: "Routes", body: <Routes id={id} {...ids} /> },
      { label: "Filter", body: <Filter id={id} {...ids} /> },
      { label: "Leases", body: <Leases id={id} {...ids} /> },
      { label: "Relay", body: <AtInterfaces id={id} {...ids} of={RELAYS} /> },
      { label: "Advertises", body: <AtInterfaces id={id} {...ids} of={ADVERTISED} /> },
      { label: "Translation", body: <AtInterfaces id={id} {...ids} of={TRANSLATED} /> },
      { label: "Lets in", body: <AtInterfaces id={id} {...ids} of={LET_IN} /> },
      { label: "Outside", body: <Outside id={id} {...ids} /> },
      remove,
    ],
  }),
  station_port: sender,
  bmc: plain,
  way_in: ({ id, remove, ids }) => ({
    sections: [{ label: "Outside", body: <Outside id={id} {...ids} /> }, remove],
  }),
  route: plain,
  flow: plain,
  shared_address: plain,
  pattern: bare,
  pattern_switch: bare,
  pattern_uplink: bare,
  pattern_nic: bare,
  pattern_host_port: bare,
  pattern_port_group: bare,
  pattern_order: bare,
  stamp: bare,
  stamp_nic: bare,
  own_word: bare,
  acceptance: plain,
  reservation: plain,
  rule: plain,
  filter_line: plain,
  lease_scope: plain,
  lease_relay: plain,
  advertisement: plain,
  translation: plain,
  inward_translation: plain,
  outside: plain,
};

/** What can be done with one record, beside it on the drawing. */
export function RecordPanel({
  id,
  first,
  close,
  open,
  build,
  compare,
}: {
  id: string;
  /** The section that is shown first, unless the first one is. */
  first?: string;
  close: () => void;
  open: (id: string) => void;
  build: (host: string, onto: string | null) => void;
  compare: (host: string) => void;
}) {
  const { base, book, edit } = usePlan();
  const navigate = useNavigate();
  const record = book.byId.get(id);
  if (!record) return null;
  const kind = record.kind;
  const name = String(record.name ?? id);
  const called = CALLED[kind]?.(book, id);
  const take = (proposal: Proposal): void => {
    void edit(proposal.message, proposal.operations).then((made) => made && close());
  };
  const message = (set: Draft): string => (called ? `Change ${called}` : sayChange(kind, name, set));
  const form = (
    <FieldForm
      key={id}
      fields={fieldsOf(kind, book, id)}
      record={record}
      compose={(set) => [patch(kind, id, set)]}
      message={message}
      done={close}
    />
  );
  const { title, sections } = PANELS[kind]({
    id,
    name,
    book,
    settings: { label: "Settings", body: form },
    remove: {
      label: "Remove",
      body: isPatternKind(kind) ? null : <Remove kind={kind} id={id} name={called ?? name} done={close} />,
    },
    ids: { book, done: close, open },
    take,
    build,
    compare,
    go: (address) => void navigate(`${base}/${address}`),
  });
  return (
    <Panel title={title ?? called ?? `${titled(kind)} ${name}`} close={close}>
      <About record={record} />
      <Sections
        label="What to do"
        sections={sections}
        first={Math.max(
          0,
          sections.findIndex((section) => section.label === first),
        )}
      />
    </Panel>
  );
}

/** What people say of a record: its note, and who answers for it. */
function About({ record }: { record: Draft }) {
  const { note, owner } = record as { note?: string; owner?: string };
  if (!note && !owner) return null;
  return (
    <Quiet>
      {note}
      {note && owner && " · "}
      {owner && `Owner: ${owner}`}
    </Quiet>
  );
}

/** What is a part of another record is called after it. */
const CALLED: { [K in Kind]?: (book: Book, id: string) => string } = {
  bmc: (book, id) => `BMC of ${book.get("host", book.get("bmc", id)!.host)?.name ?? ""}`,
  route: (book, id) => {
    const { of, via } = book.get("route", id)!;
    return `Route of ${String(book.byId.get(of)?.name ?? of)} over ${via}`;
  },
  guest_tag: (book, id) => {
    const tag = book.get("guest_tag", id)!;
    return `Tag ${tag.vid} of ${book.get("adapter", tag.adapter)?.name ?? ""}`;
  },
  station_port: (book, id) => {
    const port = book.get("station_port", id)!;
    return `${book.get("station", port.station)?.name ?? ""} ${port.vid ? `tag ${port.vid}` : "untagged"}`;
  },
  numa_node: (book, id) => {
    const { host, number } = book.get("numa_node", id)!;
    return `NUMA node ${number} of ${book.get("host", host)?.name ?? host}`;
  },
  mirror: (book, id) => `Mirror of ${book.get("adapter", book.get("mirror", id)!.source)?.name ?? ""}`,
  filter_line: (book, id) => {
    const { of, order } = book.get("filter_line", id)!;
    return `Filter line ${order ?? 100} of ${String(book.byId.get(of)?.name ?? of)}`;
  },
  lease_scope: (book, id) => {
    const { of, subnet } = book.get("lease_scope", id)!;
    return `Lease scope ${subnet} of ${String(book.byId.get(of)?.name ?? of)}`;
  },
  lease_relay: (book, id) => {
    const owner = ownerOf(book, book.get("lease_relay", id)!.at);
    return `Lease relay of ${String(book.byId.get(owner)?.name ?? owner)}`;
  },
  advertisement: (book, id) => {
    const owner = ownerOf(book, book.get("advertisement", id)!.at);
    return `Advertisement of ${String(book.byId.get(owner)?.name ?? owner)}`;
  },
  translation: (book, id) => {
    const owner = ownerOf(book, book.get("translation", id)!.at);
    return `Translation of ${String(book.byId.get(owner)?.name ?? owner)}`;
  },
  inward_translation: (book, id) => {
    const { at, to } = book.get("inward_translation", id)!;
    const owner = ownerOf(book, at);
    return `What ${String(book.byId.get(owner)?.name ?? owner)} lets in for ${to}`;
  },
  way_in: (book, id) => `Way in of ${book.get("segment", book.get("way_in", id)!.segment)?.name ?? ""}`,
  rule: (book, id) => `Rule: ${book.get("rule", id)!.text}`,
  secondary_vlan: (book, id) => `Secondary VLAN ${book.get("secondary_vlan", id)!.vid}`,
  cable: (book, id) => `Cable ${endsOf(book, book.get("cable", id)!).join(" – ")}`,
  assumed_fabric: (book, id) => `Assumed at ${book.get("assumed_fabric", id)!.site}`,
};

function sayChange(kind: Kind, name: string, set: Draft): string {
  const what = `${kind.replaceAll("_", " ")} ${name}`;
  if ("vid" in set && kind !== "segment") return `Tag ${what} ${set.vid ? String(set.vid) : "not at all"}`;
  if (typeof set.allowed === "string") return `Allow ${set.allowed || "nothing"} on ${what}`;
  if ("connected" in set) return `${set.connected ? "Connect" : "Disconnect"} ${name}`;
  if ("running" in set) return `${set.running ? "Start" : "Stop"} ${name}`;
  if ("belongs" in set) return `Say where ${name} belongs`;
  return `Change ${what}`;
}

interface Part {
  id: string;
  book: Book;
  done: () => void;
  /** Show another record's panel. */
  open: (id: string) => void;
}

/** A cable's label, and the ports into which it could be plugged instead. */
function Recable({
  proposals,
  take,
  empty,
  ...part
}: Part & { proposals: Proposal[]; take: (proposal: Proposal) => void; empty: string }) {
  return (
    <>
      <CableDoor {...part} />
      <OutcomeList label="Ports" proposals={proposals} endpoint={null} take={take} empty={empty} />
    </>
  );
}

/** The way to the cable in a NIC or a port: what is written on it, and where it is patched. */
function CableDoor({ id, book, open }: Part) {
  const cable = book.of("cable", "a", id)[0] ?? book.of("cable", "b", id)[0];
  if (!cable) return null;
  const said = [cable.label, ...(cable.places ?? [])].filter(Boolean).join(", ");
  return (
    <p>
      <LinkButton onClick={() => open(cable.id)}>{said ? `Its cable: ${said}` : "Label its cable"}</LinkButton>
    </p>
  );
}

function Doors({ doors }: { doors: [string, () => void][] }) {
  return (
    <ul className="doors">
      {doors.map(([label, open]) => (
        <li key={label}>
          <Button
            variant="outline"
            size="xs"
            width="100%"
            justifyContent="start"
            height="auto"
            py="1.5"
            whiteSpace="normal"
            textAlign="start"
            onClick={open}
          >
            {label}
          </Button>
        </li>
      ))}
    </ul>
  );
}

/** Taking a record away, with what goes with it and what that moves. */
function Remove({
  kind,
  id,
  name,
  done,
}: {
  kind: Exclude<Kind, PatternKind>;
  id: string;
  name: string;
  done: () => void;
}) {
  const { book, edit } = usePlan();
  const { busy } = usePresence();
  const operations = dropWhole(book, kind, id);
  const { results, error } = usePreviews([operations]);
  const gone = operations.filter((o) => o.op === "drop").length - 1;
  return (
    <>
      <Quiet>
        {gone
          ? gone > 1
            ? `${gone} records that hang on it go with it.`
            : "One record that hangs on it goes with it."
          : "Nothing else goes with it."}
      </Quiet>
      <Outcome result={results?.[0]} error={error} />
      <Taking>
        <TakeButton
          disabled={busy || !!results?.[0]?.problems.length}
          onClick={() => void edit(`Remove ${name}`, operations).then((made) => made && done())}
        >
          Remove {name}
        </TakeButton>
      </Taking>
    </>
  );
}

function Move({ id, take }: { id: string; take: (p: Proposal) => void }) {
  const { book } = usePlan();
  const adapter = book.get("adapter", id)!;
  const guest = book.get("guest", adapter.guest)!;
  const past: Proposal[] = book
    .of("nic", "host", guest.host)
    .filter((n) => n.functions && n.id !== adapter.function_of)
    .map((n) => ({
      key: n.id,
      label: `past the switch, through ${n.name}`,
      detail: "direct: no guard, limit or mirror applies",
      message: `Give ${guest.name} a virtual function of ${n.name}`,
      operations: [
        patch("adapter", id, {
          type: "direct",
          port_group: null,
          function_of: n.id,
          function_vid: book.get("segment", adapter.belongs)?.vid ?? null,
          ...Object.fromEntries(
            fieldsOf("adapter", book)
              .filter((f) => f.kind === "maybe" || /_(rate|peak|burst)$/.test(f.name))
              .map((f) => [f.name, null]),
          ),
        }),
      ],
    }));
  const seats = seatsFor(book, adapter).map((p) =>
    adapter.type === "direct"
      ? {
          ...p,
          operations: [
            patch("adapter", id, { type: "paravirtual", function_of: null, function_vid: null, port_group: p.key }),
          ],
        }
      : p,
  );
  return (
    <OutcomeList
      label="Port groups"
      proposals={[...seats, ...past]}
      endpoint={id}
      take={take}
      empty="Its host has no other port group."
    />
  );
}

function GuestTags({ id, book, done, open }: Part) {
  const tags = book.of("guest_tag", "adapter", id);
  return (
    <>
      <ListWithDrops
        label="Tags that the guest itself puts on"
        items={tags.map((t) => ({
          key: t.id,
          text: `${t.vid}, belongs on ${book.get("segment", t.belongs)?.name ?? "nothing yet"}`,
          operations: [drop("guest_tag", t.id)],
          message: `Take tag ${t.vid} off`,
        }))}
        empty="It tags nothing itself; on a trunk it could."
        open={open}
      />
      <FieldForm
        fields={fieldsOf("guest_tag", book)}
        making
        compose={(set) =>
          set.vid ? [put("guest_tag", { id: freshId(book, `${id}/tag-${String(set.vid)}`), adapter: id, ...set })] : []
        }
        message={(set) => `Let it use tag ${String(set.vid)}`}
        done={done}
        action="Add the tag"
      />
    </>
  );
}

/** Where a guest, station or host sends what is for other subnets than its own. */
/** The processor cores of a host, by NUMA node. */
function Cores({ id, book, done, open }: Part) {
  const name = String(book.byId.get(id)?.name ?? id);
  const nodes = [...book.of("numa_node", "host", id)].sort((a, b) => a.number - b.number);
  const next = Math.max(-1, ...nodes.map((node) => node.number)) + 1;
  return (
    <>
      <ListWithDrops
        label="NUMA nodes"
        items={nodes.map((node) => ({
          key: node.id,
          text: `NUMA node ${node.number}: cores ${node.cores || "none"}`,
          operations: [drop("numa_node", node.id)],
          message: `Take NUMA node ${node.number} of ${name} away`,
        }))}
        empty="Nothing is said of its processors: name its cores, each with its threads, by NUMA node."
        open={open}
      />
      <FieldForm
        key={next}
        fields={fieldsOf("numa_node", book).filter((field) => field.name !== "number")}
        making
        compose={(set) =>
          set.cores
            ? [put("numa_node", { id: freshId(book, `${id}/numa-${next}`), host: id, number: next, ...set })]
            : []
        }
        message={() => `NUMA node ${next} of ${name}`}
        done={done}
        action={`Add NUMA node ${next}`}
      />
    </>
  );
}

function Routes({ id, book, done, open }: Part) {
  const name = String(book.byId.get(id)?.name ?? id);
  return (
    <>
      <ListWithDrops
        label="Routes"
        items={book.of("route", "of", id).map((route) => ({
          key: route.id,
          text: `${(route.to ?? []).join(", ")} over ${route.via}`,
          operations: [drop("route", route.id)],
          message: `Take the route of ${name} over ${route.via} away`,
        }))}
        empty="It has no routes: what is in none of its subnets goes to the gateway of the segment where it belongs."
        open={open}
      />
      <FieldForm
        fields={fieldsOf("route", book)}
        making
        compose={(set) =>
          set.via ? [put("route", { id: freshId(book, `${id}/route-${String(set.via)}`), of: id, ...set })] : []
        }
        message={(set) => `Route of ${name} over ${String(set.via)}`}
        done={done}
        action="Add the route"
      />
    </>
  );
}

/** What a guest, station or host that forwards lets through, line by line. */
function Filter({ id, book, done, open }: Part) {
  const owner = book.byId.get(id);
  const name = String(owner?.name ?? id);
  const lines = [...book.of("filter_line", "of", id)].sort((a, b) => (a.order ?? 100) - (b.order ?? 100));
  const next = Math.max(0, ...lines.map((line) => line.order ?? 100)) + 10;
  return (
    <>
      {!owner?.routes && <Quiet>It doesn’t forward, so nothing passes that a filter could drop.</Quiet>}
      <ListWithDrops
        label="Filter lines"
        items={lines.map((line) => ({
          key: line.id,
          text: sayLine(line, interfacesOf(book, id)),
          operations: [drop("filter_line", line.id)],
          message: `Take filter line ${line.order ?? 100} of ${name} away`,
        }))}
        empty="It drops nothing: whatever it is sent for others, it sends on."
        open={open}
      />
      {lines.length > 0 && <Quiet>Everything else passes, and so do answers to what was let out.</Quiet>}
      <FieldForm
        fields={fieldsOf("filter_line", book, undefined, { of: id }).map((field) =>
          field.name === "order" ? { ...field, unless: next } : field,
        )}
        making
        compose={(set) =>
          Object.keys(set).length
            ? [
                put("filter_line", {
                  id: freshId(book, `${id}/filter-${String(set.order ?? next)}`),
                  of: id,
                  order: next,
                  action: "allow",
                  ...set,
                }),
              ]
            : []
        }
        message={(set) => `Filter line ${String(set.order ?? next)} of ${name}`}
        done={done}
        action="Add the line"
      />
    </>
  );
}

/** What a guest, station or host leases. */
function Leases({ id, book, done, open }: Part) {
  const name = String(book.byId.get(id)?.name ?? id);
  return (
    <>
      <ListWithDrops
        label="Lease scopes"
        items={book.of("lease_scope", "of", id).map((scope) => ({
          key: scope.id,
          text: sayScope(scope),
          operations: [drop("lease_scope", scope.id)],
          message: `Have ${name} lease nothing in ${scope.subnet}`,
        }))}
        empty="It leases no addresses to who asks at its interfaces."
        open={open}
      />
      <FieldForm
        fields={fieldsOf("lease_scope", book)}
        making
        compose={(set) =>
          set.subnet
            ? [put("lease_scope", { id: freshId(book, `${id}/leases-${String(set.subnet)}`), of: id, ...set })]
            : []
        }
        message={(set) => `Have ${name} lease addresses in ${String(set.subnet)}`}
        done={done}
        action="Add the scope"
      />
    </>
  );
}

/** The kinds whose records stand at an interface of a guest, station or host. */
type AtInterface = "lease_relay" | "advertisement" | "translation" | "inward_translation";

/** A section that lists what stands at somebody’s interfaces, and adds to it, in its own words. */
interface Held<K extends AtInterface> {
  kind: K;
  label: string;
  /** Whether an interface may hold more than one. */
  several?: boolean;
  /** What is said of somebody who doesn’t forward, where it takes that. */
  idle?: string;
  empty: string;
  /** One of them, behind what its interface is called. */
  say: (one: RecordOf<K>) => string;
  /** That one is taken away from somebody, and that one is added. */
  gone: (name: string, one: RecordOf<K>, at: string) => string;
  made: (name: string, set: Draft, at: string) => string;
  /** What its id ends in. */
  suffix: string;
  /** Whether enough is said to add it. */
  ready: (set: Draft) => boolean;
  action: string;
}

const filled = (value: unknown): boolean => Array.isArray(value) && value.length > 0;

const RELAYS: Held<"lease_relay"> = {
  kind: "lease_relay",
  label: "Lease relays",
  empty: "It asks nobody elsewhere for leases of others. Where it hears who asks, it can ask a server behind it.",
  say: ({ to }) => ` asks ${(to ?? []).join(", ")}`,
  gone: (name, _, at) => `Have ${name} ask nobody for leases at ${at}`,
  made: (name, { to }) => `Have ${name} ask ${String(to)} for leases`,
  suffix: "relay",
  ready: ({ to }) => filled(to),
  action: "Add the relay",
};

const ADVERTISED: Held<"advertisement"> = {
  kind: "advertisement",
  label: "Advertisements",
  empty: "It advertises no IPv6 prefix to who forms addresses on its links, nor itself as the way out.",
  say: (one) => `: ${sayAdvertised(one)}`,
  gone: (name, _, at) => `Have ${name} advertise nothing at ${at}`,
  made: (name, { prefixes, on_link }) =>
    `Have ${name} advertise ${[prefixes, on_link].filter(filled).map(String).join(", ")}`,
  suffix: "advertises",
  ready: ({ prefixes, on_link }) => filled(prefixes) || filled(on_link),
  action: "Add the advertisement",
};

const TRANSLATED: Held<"translation"> = {
  kind: "translation",
  label: "Translations",
  idle: "It doesn’t forward, so there is nothing that it could translate.",
  empty: "What it sends on keeps the address of whoever sent it.",
  say: ({ sources }) => `: ${sources?.length ? sources.join(", ") : "everybody"}`,
  gone: (name, _, at) => `Have ${name} translate nothing at ${at}`,
  made: (name, _, at) => `Have ${name} translate at ${at}`,
  suffix: "translation",
  ready: () => true,
  action: "Translate what leaves by it",
};

const LET_IN: Held<"inward_translation"> = {
  kind: "inward_translation",
  label: "Inward translations",
  several: true,
  idle: "It doesn’t forward, so there is nobody whom it could let in.",
  empty: "What comes for its own addresses is for itself.",
  say: (one) => `: ${sayInward(one)}`,
  gone: (name, { to }) => `Have ${name} let nothing in for ${to}`,
  made: (name, { to }) => `Have ${name} let in what is for ${String(to)}`,
  suffix: "lets-in",
  ready: ({ to }) => Boolean(to),
  action: "Let it in",
};

/** What stands at the interfaces of a guest, station or host, and a form that adds to it where there is room. */
function AtInterfaces<K extends AtInterface>({ id, book, done, open, of }: Part & { of: Held<K> }) {
  const { kind } = of;
  const owner = book.byId.get(id);
  const name = String(owner?.name ?? id);
  const interfaces = interfacesOf(book, id);
  const named = new Map(interfaces);
  const at = (record: string): RecordOf<K>[] => book.of(kind, "at", record) as RecordOf<K>[];
  const calls = (record: string): string => named.get(record) ?? record;
  const free = interfaces.filter(([record]) => of.several || !at(record).length);
  const first = free[0]?.[0];
  return (
    <>
      {of.idle && !owner?.routes && <Quiet>{of.idle}</Quiet>}
      <ListWithDrops
        label={of.label}
        items={interfaces.flatMap(([record]) =>
          at(record).map((one) => ({
            key: one.id,
            text: `${calls(one.at)}${of.say(one)}`,
            operations: [drop(kind, one.id)],
            message: of.gone(name, one, calls(one.at)),
          })),
        )}
        empty={of.empty}
        open={open}
      />
      {first && (
        <FieldForm
          fields={fieldsOf(kind, book, undefined, { at: first }).map((field) =>
            field.name === "at" ? { ...field, options: free, unless: first } : field,
          )}
          making
          compose={(set) =>
            of.ready(set)
              ? [put(kind, { id: freshId(book, `${String(set.at ?? first)}/${of.suffix}`), at: first, ...set })]
              : []
          }
          message={(set) => of.made(name, set, calls(String(set.at ?? first)))}
          done={done}
          action={of.action}
        />
      )}
    </>
  );
}

/** What lies behind a station, or a way in, and isn't the plan's. */
function Outside({ id, book, done, open }: Part) {
  return (
    <>
      <ListWithDrops
        label="Outside networks"
        items={book.of("outside", "at", id).map((outside) => ({
          key: outside.id,
          text: sayOutside(outside),
          operations: [drop("outside", outside.id)],
          message: `Take ${outside.name} away`,
        }))}
        empty="Nothing that isn’t the plan’s lies behind it: pings and rules end here."
        open={open}
      />
      <FieldForm
        fields={fieldsOf("outside", book, undefined, { at: id })}
        making
        compose={(set) =>
          set.name ? [put("outside", { id: freshId(book, `outside-${String(set.name)}`), at: id, ...set })] : []
        }
        message={(set) => `Outside network ${String(set.name)}`}
        done={done}
        action="Add the network"
      />
    </>
  );
}

/** Which system defines a segment, and that it can become the plan's own. */
function FromSource({ id, book, done }: Part) {
  const { edit } = usePlan();
  const segment = book.get("segment", id)!;
  const source = sourceOf(book, segment);
  return (
    <>
      <Quiet>
        {segment.vanished ? `${source} defined it once as ` : `${source} defines it as `}
        <span className="mono">{segment.origin}</span>
        {segment.vanished ? " and doesn’t any longer." : ": name, tag and subnets change with its readings."}
      </Quiet>
      <Taking>
        <TakeButton
          onClick={() =>
            void edit(`Make ${segment.name} the plan’s own`, [patch("segment", id, MADE_OWN)]).then(
              (made) => made && done(),
            )
          }
        >
          Make it the plan’s own
        </TakeButton>
      </Taking>
    </>
  );
}

/** Where a segment's gateway comes in from outside the plan, and what lies behind it. */
function WaysIn({ id, book, done, open }: Part) {
  const name = String(book.byId.get(id)?.name ?? id);
  const ways = book.of("way_in", "segment", id);
  const free = book.records.fabric_port
    .map(({ id: port }) => port)
    .filter((port) => !book.far.get(port) && standingAt(book, port) === undefined)
    .filter((port) => !ways.some((way) => way.port === port))
    .sort((a, b) => compareNames(portName(book, a), portName(book, b)));
  return (
    <>
      <ListWithDrops
        label="Ways in"
        items={ways.map((way) => ({
          key: way.id,
          text: [
            `its gateway comes in at ${portName(book, way.port)}`,
            ...book.of("outside", "at", way.id).map(sayOutside),
          ].join("; "),
          operations: dropWhole(book, "way_in", way.id),
          message: `Take the way in of ${name} at ${portName(book, way.port)} away`,
        }))}
        empty="Its gateway is somebody’s in the plan. Where it is outside the plan, say at which port it comes in."
        open={open}
      />
      {free.length > 0 && (
        <FieldForm
          fields={[
            {
              name: "port",
              label: "Comes in at",
              kind: "ref",
              options: [["", "choose a free port"], ...free.map((p): [string, string] => [p, portName(book, p)])],
            },
          ]}
          making
          compose={(set) =>
            set.port ? [put("way_in", { id: freshId(book, `way-in-${name}`), segment: id, port: set.port })] : []
          }
          message={(set) => `The gateway of ${name} comes in at ${portName(book, String(set.port))}`}
          done={done}
          action="Have it come in there"
        />
      )}
      {ways.map((way) => (
        <div key={way.id}>
          <h3>Behind {portName(book, way.port)}</h3>
          <Outside id={way.id} book={book} done={done} open={open} />
        </div>
      ))}
    </>
  );
}

/** An outside network as a sentence. */
function sayOutside(outside: RecordOf<"outside">): string {
  const parts = [
    outside.subnets?.length ? outside.subnets.join(", ") : "whatever nobody here has",
    outside.translates && "translates",
    outside.knows?.length ? `knows the way to ${outside.knows.join(", ")}` : "",
    outside.via && `over ${outside.via}`,
    outside.lends && `lends ${outside.lends} ${outside.lends === 1 ? "address" : "addresses"}`,
  ];
  return `${outside.name}: ${parts.filter(Boolean).join(", ")}`;
}

/** What is let in for whom. */
function sayInward({ protocol, ports, to, port, hairpin }: RecordOf<"inward_translation">): string {
  const what = [protocol === "any" || !protocol ? "everything" : protocol, ports].filter(Boolean).join(" ");
  return `${what} is for ${to}${port ? ` port ${port}` : ""}${hairpin ? ", also from within" : ""}`;
}

/** What is advertised at an interface. */
function sayAdvertised({ prefixes, on_link: near, router }: RecordOf<"advertisement">): string {
  const links = (near ?? []).map((net) => `${net} as on link alone`);
  return [...(prefixes ?? []), ...links, ...(router === false ? [] : ["itself as the way out"])].join(", ");
}

/** A scope as a sentence. */
function sayScope(scope: RecordOf<"lease_scope">): string {
  const kept = scope.kept?.length ?? 0;
  const parts = [
    scope.pool?.length ? scope.pool.join(", ") : kept ? "" : "nothing",
    kept > 0 && `${kept} kept`,
    scope.gateways?.length ? `gateway ${scope.gateways.join(", ")}` : !scope.subnet.includes(":") && "no gateway",
  ];
  return `${scope.subnet}: ${parts.filter(Boolean).join(", ")}`;
}

/** A filter line as a sentence. */
function sayLine(line: RecordOf<"filter_line">, interfaces: [string, string][]): string {
  const named = new Map(interfaces);
  const what = [line.protocol === "any" || !line.protocol ? "everything" : line.protocol, line.ports].filter(Boolean);
  const parts = [
    line.sources?.length && `from ${line.sources.join(", ")}`,
    line.targets?.length && `to ${line.targets.join(", ")}`,
    line.enters && `in by ${named.get(line.enters) ?? line.enters}`,
    line.leaves && `out by ${named.get(line.leaves) ?? line.leaves}`,
  ];
  const said = [...what, ...parts].filter(Boolean).join(" ");
  const does = { allow: "let through", deny: "drop", unknown: "nobody said what becomes of" }[line.action];
  return `${line.order ?? 100}: ${does} ${said}`;
}

function Mirrors({ id, book, done, open }: Part) {
  const adapter = book.get("adapter", id)!;
  const sw = book.get("port_group", adapter.port_group)?.switch;
  const near = book
    .of("port_group", "switch", sw ?? "")
    .flatMap((g) => book.of("adapter", "port_group", g.id))
    .filter((a) => a.id !== id);
  const own = [
    ...book.of("mirror", "source", id).map((m) => [m, m.target, "is shown to"] as const),
    ...book.of("mirror", "target", id).map((m) => [m, m.source, "is shown what passes at"] as const),
  ];
  const field = {
    name: "target",
    label: "Show it to",
    kind: "ref" as const,
    options: [
      ["", "choose an adapter"],
      ...near.map((a): [string, string] => [a.id, `${book.get("guest", a.guest)?.name ?? ""} ${a.name}`]),
    ] as [string, string][],
  };
  return (
    <>
      <ListWithDrops
        label="Mirrors"
        items={own.map(([m, other, says]) => ({
          key: m.id,
          text: `${says} ${book.get("adapter", other)?.name ?? ""} (${m.direction ?? "both"})`,
          operations: [drop("mirror", m.id)],
          message: `Take the mirror of ${adapter.name} away`,
        }))}
        empty="Nobody is shown its frames."
        open={open}
      />
      <FieldForm
        fields={[field, ...fieldsOf("mirror", book)]}
        making
        compose={(set) =>
          set.target ? [put("mirror", { id: freshId(book, `${id}/mirror`), source: id, ...set })] : []
        }
        message={() => `Mirror ${adapter.name}`}
        done={done}
        action="Mirror it"
      />
    </>
  );
}

/** Things that are there, each opened by its text and taken away by a button. */
export function ListWithDrops({
  label,
  items,
  empty,
  open,
}: {
  label: string;
  items: { key: string; text: string; operations: Operation[]; message: string }[];
  empty: string;
  open: (id: string) => void;
}) {
  const { edit } = useActions();
  const { busy } = usePresence();
  if (!items.length) return <Quiet>{empty}</Quiet>;
  return (
    <ul className="plain-list" aria-label={label}>
      {items.map((item) => (
        <li key={item.key}>
          <LinkButton flex="0 1 auto" onClick={() => open(item.key)} title="Its settings">
            {item.text}
          </LinkButton>
          <LinkButton
            disabled={busy}
            aria-label={`Remove: ${item.text}`}
            onClick={() => void edit(item.message, item.operations)}
          >
            remove
          </LinkButton>
        </li>
      ))}
    </ul>
  );
}

function Attach({ id, book, done }: Part) {
  const { edit, snapshot } = usePlan();
  const group = book.get("port_group", id)!;
  const host = book.get("virtual_switch", group.switch)!.host;
  const [chosen, setChosen] = useState<string[]>([]);
  const operations = chosen.map((a) => patch("adapter", a, { port_group: id }));
  const { results, error } = usePreviews([operations], chosen.length > 0);
  const choices = book
    .of("guest", "host", host)
    .flatMap((g) => book.of("adapter", "guest", g.id).map((a) => ({ g, a })))
    .filter(({ a }) => a.port_group !== id && a.type !== "direct")
    .map(({ g, a }) => {
      const move = results?.[0]?.moves.find((m) => m.endpoint === a.id);
      const verdict = (move ? move.after : snapshot.endpoints.get(a.id)?.verdict) ?? undefined;
      return {
        id: a.id,
        label: `${g.name} ${a.name}`,
        detail: whereabouts(book, a),
        mark: verdict,
      };
    });
  const make = (): void => {
    if (chosen.length)
      void edit(`Attach ${chosen.length} adapter${chosen.length > 1 ? "s" : ""} to ${group.name}`, operations).then(
        (made) => made && done(),
      );
  };
  return (
    <>
      <Picker
        label="Adapters"
        choices={choices}
        chosen={chosen}
        put={setChosen}
        next={make}
        empty="Every adapter of this host is here already."
      />
      {chosen.length > 0 && <Outcome result={results?.[0]} error={error} />}
      <Taking keys="Space takes, Enter attaches">
        <TakeButton disabled={!chosen.length} onClick={make}>
          Attach {chosen.length || ""}
        </TakeButton>
      </Taking>
    </>
  );
}

/** The port group's own word on each NIC of the uplink. */
function NewHostPort({ id, book, done }: Part) {
  const name = { name: "name", label: "Name", kind: "text" as const };
  const fields = [name, ...fieldsOf("host_port", book).filter((f) => f.name !== "name")];
  return (
    <FieldForm
      fields={fields}
      record={{ name: freshName(book.of("host_port", "switch", id), "port") }}
      making
      compose={(set) => {
        const said = String(set.name ?? freshName(book.of("host_port", "switch", id), "port"));
        return [put("host_port", { id: freshId(book, `${id}/${said}`), switch: id, ...set, name: said })];
      }}
      message={(set) => `Make host port ${String(set.name ?? "")}`}
      done={done}
      action="Make it"
    />
  );
}

const groupsOf = (book: Book, host: string) =>
  book.of("virtual_switch", "host", host).flatMap((s) => book.of("port_group", "switch", s.id));

/** Where a new adapter sits and belongs. */
function seatFields(book: Book, host: string): FieldSpec[] {
  const options = groupsOf(book, host).map((g): [string, string] => [g.id, g.name]);
  return [
    { name: "port_group", label: "Port group", kind: "ref", options: [["", "none yet"], ...options] },
    ...fieldsOf("adapter", book).filter((f) => f.name === "belongs" || f.name === "addresses"),
  ];
}

/** The port group in which a new adapter sits unless something else is said: the only one of its host. */
function onlySeat(book: Book, host: string): { port_group?: string } {
  const groups = groupsOf(book, host);
  return groups.length === 1 ? { port_group: groups[0]!.id } : {};
}

/** What was said of a new adapter; unless that was said too, it belongs on the segment whose VID its port group has. */
function seated(book: Book, host: string, said: Draft): Draft {
  const set = { ...onlySeat(book, host), ...said };
  const vid = book.get("port_group", String(set.port_group ?? ""))?.vid;
  const belongs = said.belongs ?? segmentWith(book, vid)?.id;
  return belongs ? { ...set, belongs } : set;
}

function NewGuest({ id, book, done }: Part) {
  const host = book.get("host", id)!;
  // One address for as long as the form is open, so that its preview settles.
  const [mac] = useState(() => freshMac(book));
  const fields = [{ name: "name", label: "Guest", kind: "text" as const }, ...seatFields(book, id)];
  return (
    <FieldForm
      fields={fields}
      record={onlySeat(book, id)}
      making
      compose={({ name, ...set }) => {
        if (!name) return [];
        const guest = freshId(book, `guest-${String(name)}`);
        return [
          put("guest", { id: guest, host: id, name }),
          put("adapter", {
            id: freshId(book, `adapter-${String(name)}`),
            guest,
            name: `tap-${String(name)}`.slice(0, 80),
            mac,
            ...seated(book, id, set),
          }),
        ];
      }}
      message={({ name }) => `Make guest ${String(name)} on ${host.name}`}
      done={done}
      action="Make it"
    />
  );
}

function NewAdapter({ id, book, done }: Part) {
  const guest = book.get("guest", id)!;
  const own = book.of("adapter", "guest", id);
  const [mac] = useState(() => freshMac(book));
  const name = `tap-${guest.name}-${own.length}`;
  const fields = [
    ...seatFields(book, guest.host),
    {
      name: "type",
      label: "Kind",
      kind: "choice" as const,
      unless: "paravirtual",
      options: [
        ["paravirtual", "paravirtual"],
        ["emulated", "emulated"],
      ] as [string, string][],
    },
  ];
  return (
    <FieldForm
      fields={fields}
      record={onlySeat(book, guest.host)}
      making
      compose={(set) => [
        put("adapter", {
          id: freshId(book, `adapter-${guest.name}-${own.length}`),
          guest: id,
          name,
          mac,
          order: own.length,
          ...seated(book, guest.host, set),
        }),
      ]}
      message={() => `Give ${guest.name} another adapter`}
      done={done}
      action="Make it"
    />
  );
}

function NewNic({ id, book, done }: Part) {
  const host = book.get("host", id)!;
  const name = freshName(book.of("nic", "host", id), "nic");
  const fields = [
    { name: "name", label: "Name", kind: "text" as const },
    ...fieldsOf("nic", book)
      .filter((f) => ["speed", "mtu", "card"].includes(f.name))
      .map((f) => ({ ...f, more: false })),
  ];
  return (
    <FieldForm
      fields={fields}
      record={{ name }}
      making
      compose={(set) => {
        const said = String(set.name ?? name);
        return [put("nic", { id: freshId(book, `${id}/${said}`), host: id, ...set, name: said })];
      }}
      message={(set) => `Put ${String(set.name ?? name)} into ${host.name}`}
      done={done}
      action="Put it in"
    />
  );
}

/** The controller by which a host is reached while it is off. */
function Controller({ id, book, done, open }: Part) {
  const host = book.get("host", id)!;
  const own = book.of("bmc", "host", id);
  if (own.length)
    return (
      <ListWithDrops
        label="BMC"
        items={own.map((bmc) => ({
          key: bmc.id,
          text: [
            bmc.port ? `at ${portName(book, bmc.port)}` : `over ${book.get("nic", bmc.nic)?.name ?? ""}`,
            bmc.vid ? `tag ${bmc.vid}` : "untagged",
            ...(bmc.addresses ?? []),
          ].join(", "),
          operations: [drop("bmc", bmc.id)],
          message: `Take the BMC of ${host.name} away`,
        }))}
        empty=""
        open={open}
      />
    );
  return (
    <>
      <Quiet>
        It has a port of its own, or shares one of the host’s NICs: then its frames go past the team, also while the
        host is off.
      </Quiet>
      <FieldForm
        fields={fieldsOf("bmc", book, undefined, { host: id })}
        making
        compose={(set) =>
          set.port || set.nic ? [put("bmc", { id: freshId(book, `${id}/bmc`), host: id, ...set })] : []
        }
        message={() => `Say where the BMC of ${host.name} is`}
        done={done}
        action="Add the BMC"
      />
    </>
  );
}

/** Every port of a switch, with what it carries and what is at its other end; and more of them. */
function Ports({ id, book, done, open }: Part) {
  const ports = [...book.of("fabric_port", "switch", id)].sort((a, b) => compareNames(a.name, b.name));
  const end = (port: string): string => {
    const far = book.far.get(port)?.id;
    const nic = book.get("nic", far);
    if (nic) return `${book.get("host", nic.host)?.name ?? ""} ${nic.name}`;
    return far ? portName(book, far) : (standingAt(book, port) ?? "free");
  };
  return (
    <>
      {ports.length > 0 && (
        <ul className="plain-list" aria-label="Its ports">
          {ports.map((p) => (
            <li key={p.id}>
              <LinkButton onClick={() => open(p.id)}>{p.name}</LinkButton>
              <span className="port-end">
                {tagText(p)} · {end(p.id)}
              </span>
            </li>
          ))}
        </ul>
      )}
      <h3>More of them</h3>
      <NewPorts id={id} book={book} done={done} open={open} />
    </>
  );
}

function NewPorts({ id, book, done }: Part) {
  const sw = book.get("fabric_switch", id)!;
  const ports = book.of("fabric_port", "switch", id);
  const first = ports.length ? 1 : 8;
  const usual = writtenVids(book.records.segment.flatMap((s) => s.vid ?? []));
  const fields = [
    { name: "count", label: "How many", kind: "number" as const, unless: first },
    { name: "allowed", label: "Trunk for VIDs", kind: "vids" as const, hint: "110, 200-219" },
    { name: "vid", label: "Or access VID", kind: "vid" as const },
    { name: "speed", label: "Speed", kind: "number" as const, hint: "Mbit/s" },
  ];
  return (
    <FieldForm
      fields={fields}
      record={{ allowed: usual }}
      making
      compose={({ count, allowed: typed, vid, speed }) => {
        // Trunks for the segments that there are, unless something else is said.
        const allowed = typed ?? usual;
        if (!allowed && !vid) return [];
        const taken = new Set(ports.map((p) => p.name));
        const made: Operation[] = [];
        for (let n = 1; made.length < Math.min(Number(count ?? first), 96); n++) {
          if (taken.has(`p${n}`)) continue;
          made.push(
            put("fabric_port", {
              id: freshId(book, `${id}/p${n}`),
              switch: id,
              name: `p${n}`,
              ...(vid ? { mode: "access", vid } : { mode: "trunk", allowed }),
              ...(speed ? { speed } : {}),
            }),
          );
        }
        return made;
      }}
      message={({ count }) =>
        `Add ${Number(count ?? first)} port${Number(count ?? first) > 1 ? "s" : ""} to ${sw.name}`
      }
      done={done}
      action="Add them"
    />
  );
}

function NewLag({ id, book, done, open }: Part) {
  const { edit } = useActions();
  const sw = book.get("fabric_switch", id)!;
  const lags = book.of("lag", "switch", id);
  const [chosen, setChosen] = useState<string[]>([]);
  const name = freshName(lags, "lag");
  const lag = freshId(book, `${id}/${name}`);
  const operations = [
    put("lag", { id: lag, switch: id, name }),
    ...chosen.map((p) => patch("fabric_port", p, { lag })),
  ];
  const { results, error } = usePreviews([operations], chosen.length > 0);
  const free = book
    .of("fabric_port", "switch", id)
    .filter((p) => !p.lag)
    .sort((a, b) => compareNames(a.name, b.name));
  const make = (): void => {
    if (chosen.length)
      void edit(`Join ${chosen.length} ports of ${sw.name} as ${name}`, operations).then((made) => made && done());
  };
  return (
    <>
      <ListWithDrops
        label="LAGs"
        items={lags.map((l) => ({
          key: l.id,
          text: `${l.name}: ${
            book
              .of("fabric_port", "lag", l.id)
              .map((p) => p.name)
              .join(", ") || "no port"
          }${(l.lacp ?? true) ? ", LACP" : ", static"}`,
          operations: dropWhole(book, "lag", l.id),
          message: `Take ${l.name} of ${sw.name} apart`,
        }))}
        empty="No ports of it are joined yet."
        open={open}
      />
      <Picker
        label="Ports to join"
        choices={free.map((p) => ({ id: p.id, label: p.name, detail: `${p.mode} ${p.vid ?? p.allowed ?? ""}` }))}
        chosen={chosen}
        put={setChosen}
        next={make}
        empty="It has no port that is free of a LAG."
      />
      {chosen.length > 0 && <Outcome result={results?.[0]} error={error} />}
      <Taking keys="Space takes, Enter joins">
        <TakeButton disabled={!chosen.length || !!results?.[0]?.problems.length} onClick={make}>
          Join as {name}
        </TakeButton>
      </Taking>
    </>
  );
}

/** A cable from a free port: to a NIC without one, or to a free port of another switch. */
function PlugIn({ id, book, done }: Part) {
  const { edit } = useActions();
  const own = book.get("fabric_port", id)!;
  const proposals: Proposal[] = [
    ...book.records.nic
      .filter((n) => !book.far.has(n.id))
      .map((n) => ({
        id: n.id,
        label: `${book.get("host", n.host)?.name ?? ""} ${n.name}`,
        detail: "NIC without a cable",
      })),
    ...book.records.fabric_port
      .filter((p) => p.switch !== own.switch && !book.far.has(p.id) && standingAt(book, p.id) === undefined)
      .map((p) => ({ id: p.id, label: portName(book, p.id), detail: `${p.mode} ${p.vid ?? p.allowed ?? ""}` })),
  ]
    .slice(0, 40)
    .map(({ id: other, label, detail }) => ({
      key: other,
      label,
      detail,
      message: `Cable ${portName(book, id)} to ${label}`,
      operations: [put("cable", { id: freshId(book, `cable:${id}`), a: id, b: other })],
    }));
  return (
    <OutcomeList
      label="Other ends"
      proposals={proposals}
      endpoint={null}
      take={(p) => void edit(p.message, p.operations).then((made) => made && done())}
      empty="Nothing is without a cable."
    />
  );
}

function Stations({ id, book, done, open }: Part) {
  const own = book.of("station_port", "port", id);
  const station = book.get("station", own[0]?.station);
  const site = book.get("fabric_switch", book.get("fabric_port", id)!.switch)?.site ?? "";
  const more = fieldsOf("station_port", book).map((f) => ({ ...f, more: f.more && f.name !== "mtu" }));
  const routes = fieldsOf("station", book).filter((f) => f.name === "routes");
  const fields = station
    ? more
    : [
        { name: "name", label: "Station", kind: "text" as const, hint: "router, modem, storage array" },
        ...more,
        ...routes,
      ];
  return (
    <>
      {station && (
        <p>
          <LinkButton onClick={() => open(station.id)}>{station.name}</LinkButton>{" "}
          {station.routes ? "routes between its interfaces." : "doesn’t route."}
        </p>
      )}
      {station && (
        <ListWithDrops
          open={open}
          label={`Interfaces of ${station.name}`}
          items={own.map((p) => ({
            key: p.id,
            text: `${station.name} ${p.vid ? `tag ${p.vid}` : "untagged"} ${(p.addresses ?? []).join(", ")}`,
            operations: own.length > 1 ? [drop("station_port", p.id)] : dropWhole(book, "station", station.id),
            message: `Unplug ${station.name}`,
          }))}
          empty=""
        />
      )}
      <FieldForm
        fields={fields}
        making
        compose={({ name, routes: passes, ...set }) => {
          if (!station && !name) return [];
          const owner = station?.id ?? freshId(book, `station-${String(name)}`);
          const made = put("station_port", {
            id: freshId(book, `${owner}/${String(set.vid ?? "untagged")}`),
            station: owner,
            port: id,
            ...set,
          });
          return station
            ? [made]
            : [put("station", { id: owner, name, site, ...(passes ? { routes: true } : {}) }), made];
        }}
        message={({ name }) => (station ? `Give ${station.name} another interface` : `Plug ${String(name)} in`)}
        done={done}
        action={station ? "Add it" : "Plug it in"}
      />
    </>
  );
}
