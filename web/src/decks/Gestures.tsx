import { useState, type FormEvent, type ReactNode } from "react";

import { useActions, useGesture, usePresence, type Gestures } from "../api/plan";
import { compareNames, speed, type Book } from "../model/records";
import { CheckList, ChoiceLine, Quiet, TakeButton, Taking, TextLine, Told } from "../parts/controls";
import { Outcome } from "./Panel";

/** A gesture in a panel: a choice, what it would change, and the button that makes it. */
export function GestureForm<G extends keyof Gestures>({
  name,
  args,
  ready,
  action,
  done,
  tells,
  children,
}: {
  name: G;
  args: Gestures[G];
  ready: boolean;
  action: string;
  done: () => void;
  /** Whether what the server calls it says something that isn't said otherwise. */
  tells?: boolean;
  children: ReactNode;
}) {
  const { gesture } = useActions();
  const { busy } = usePresence();
  const seen = useGesture(name, args, ready);
  const can = ready && !!seen.data && !busy;
  const take = (event: FormEvent): void => {
    event.preventDefault();
    if (can) void gesture(name, args).then((made) => made && done());
  };
  return (
    <form onSubmit={take}>
      {children}
      {ready &&
        (seen.error ? (
          <Told tone="bad">{seen.error.message}</Told>
        ) : (
          <>
            {tells && seen.data && <Quiet>{seen.data.message}.</Quiet>}
            <Outcome result={seen.data?.preview ?? undefined} />
          </>
        ))}
      <Taking keys="Enter takes, Esc leaves all as it is">
        <TakeButton type="submit" disabled={!can}>
          {action}
        </TakeButton>
      </Taking>
    </form>
  );
}

/** Another host for a guest; each adapter takes the port group there that is most like its own. */
export function MoveGuest({ id, book, done }: { id: string; book: Book; done: () => void }) {
  const guest = book.get("guest", id)!;
  const hosts = book.records.host.filter((h) => h.id !== guest.host).sort((a, b) => compareNames(a.name, b.name));
  const [host, setHost] = useState("");
  if (!hosts.length) return <Quiet>There is no other host.</Quiet>;
  const seats = book.of("adapter", "guest", id).filter((a) => a.port_group);
  return (
    <GestureForm name="move-guests" args={{ guests: [id], host }} ready={host !== ""} action="Move it" done={done}>
      <Quiet>
        {seats.length
          ? "Its adapters take the port groups there that are most like their own; who finds none stays unattached."
          : "None of its adapters is attached."}
      </Quiet>
      <ChoiceLine
        label="To host"
        value={host}
        put={setHost}
        options={[
          ["", "choose one"],
          ...hosts.map((h): [string, string] => [h.id, h.site ? `${h.name}, ${h.site}` : h.name]),
        ]}
      />
    </GestureForm>
  );
}

/** A choice of hosts: all of them, or those of a site. */
function useHosts(book: Book): { hosts: string[]; choice: ReactNode } {
  const sites = [...new Set(book.records.host.map((h) => h.site ?? ""))].sort(compareNames);
  const [site, setSite] = useState("*");
  return {
    hosts: site === "*" ? [] : book.records.host.filter((h) => (h.site ?? "") === site).map((h) => h.id),
    choice: sites.length > 1 && (
      <ChoiceLine
        label="Hosts"
        value={site}
        put={setSite}
        options={[["*", "all"], ...sites.map((s): [string, string] => [s, s ? `of ${s}` : "of no site"])]}
      />
    ),
  };
}

/** A segment on every host, or those chosen, and over the cables between switches that it needs for that. */
export function Everywhere({ id, book, done }: { id: string; book: Book; done: () => void }) {
  const segment = book.get("segment", id)!;
  const { hosts, choice } = useHosts(book);
  if (!book.records.host.length) return <Quiet>There is no host yet.</Quiet>;
  return (
    <GestureForm
      name="everywhere"
      args={{ segment: id, hosts }}
      ready
      action={`Bring ${segment.name} there`}
      done={done}
      tells
    >
      <Quiet>
        Each host gets a port group for it; uplinks, their ports, and the cables between switches that need it let it
        through.
      </Quiet>
      {choice}
    </GestureForm>
  );
}

/** All of a role on a switch and NICs of its own, on many hosts at once. */
export function OwnNics({ role, book, done }: { role: string; book: Book; done: () => void }) {
  const { hosts, choice } = useHosts(book);
  const [nics, setNics] = useState("");
  const [mtu, setMtu] = useState("");
  const names = nics.split(/[\s,]+/).filter(Boolean);
  return (
    <GestureForm
      name="own-nics"
      args={{ role, hosts, nics: names, mtu: Number(mtu) }}
      ready={names.length > 0 && /^\d*$/.test(mtu.trim())}
      action={`Give ${role} its own`}
      done={done}
      tells
    >
      <Quiet>
        On each host all of {role} moves to a switch with these NICs alone. Where it has a switch to itself it stays.
      </Quiet>
      {choice}
      <TextLine label="NICs" value={nics} put={setNics} hint="nic2, nic3" />
      <TextLine label="Largest packets" value={mtu} put={setMtu} numeric hint="bytes, as they are" />
    </GestureForm>
  );
}

/** A free port becomes one of a segment, with something plugged in: a laptop in the lab. */
export function IntoSegment({ id, book, done }: { id: string; book: Book; done: () => void }) {
  const segments = book.records.segment.filter((s) => s.vid).sort((a, b) => compareNames(a.name, b.name));
  const [segment, setSegment] = useState("");
  const [name, setName] = useState("laptop");
  if (!segments.length) return <Quiet>There is no segment with a VID yet.</Quiet>;
  return (
    <GestureForm
      name="at-port"
      args={{ port: id, segment, name }}
      ready={segment !== "" && name.trim() !== ""}
      action="Plug it in"
      done={done}
      tells
    >
      <Quiet>
        The port becomes an access port of that segment, which the cables between switches carry to here; what is
        plugged in gets its next free address.
      </Quiet>
      <ChoiceLine
        label="Segment"
        value={segment}
        put={setSegment}
        options={[["", "choose one"], ...segments.map((s): [string, string] => [s.id, `${s.name} ${s.vid}`])]}
      />
      <TextLine label="What" value={name} put={setName} plain />
    </GestureForm>
  );
}

/** A switch routes between segments: it gets an interface in each of them, at a port of its own. */
export function RouteHere({ id, book, done }: { id: string; book: Book; done: () => void }) {
  const own = book.get("fabric_switch", id)!;
  const here = book.of("station", "within", id).flatMap((s) => book.of("station_port", "station", s.id));
  const has = new Set(here.map((p) => p.belongs));
  const segments = book.records.segment
    .filter((s) => s.vid && !has.has(s.id))
    .sort((a, b) => compareNames(a.name, b.name));
  const [picked, setPicked] = useState<readonly string[]>([]);
  if (!segments.length) return <Quiet>There is no other segment with a VID.</Quiet>;
  return (
    <GestureForm
      name="routing"
      args={{ switch: id, segments: [...picked] }}
      ready={picked.length > 0}
      action={`Have ${own.name} route`}
      done={done}
      tells
    >
      <Quiet>
        It gets an interface in each, with the gateway’s address where nobody has that; the cables between switches
        carry them to here. Routes, filter and leases are those of the station within it.
      </Quiet>
      <CheckList
        label="Segments"
        options={segments.map((s) => [s.id, `${s.name} ${s.vid}`])}
        picked={picked}
        pick={setPicked}
      />
    </GestureForm>
  );
}

/** Two NICs of a host take each other’s place; cables stay where they are plugged. */
export function ExchangeNics({ id, book, done }: { id: string; book: Book; done: () => void }) {
  const nic = book.get("nic", id)!;
  const others = book
    .of("nic", "host", nic.host)
    .filter((n) => n.id !== id)
    .sort((a, b) => compareNames(a.name, b.name));
  const [two, setTwo] = useState("");
  if (!others.length) return <Quiet>This host has no other NIC.</Quiet>;
  const place = (uplink: string | null | undefined): string => {
    const own = book.get("uplink", uplink);
    return own ? `in ${book.get("virtual_switch", own.switch)?.name ?? own.name}` : "free";
  };
  return (
    <GestureForm name="exchange" args={{ one: id, two }} ready={two !== ""} action="Exchange them" done={done}>
      <Quiet>Each takes the other’s uplink, part, team orders and address; cables stay where they are plugged.</Quiet>
      <ChoiceLine
        label={`${nic.name} with`}
        value={two}
        put={setTwo}
        options={[
          ["", "choose one"],
          ...others.map((n): [string, string] => [
            n.id,
            [n.name, speed(n.speed), place(n.uplink)].filter(Boolean).join(", "),
          ]),
        ]}
      />
    </GestureForm>
  );
}

/** All of a role moves off a switch onto one of its own. */
export function SplitOff({ id, book, done }: { id: string; book: Book; done: () => void }) {
  const own = book.get("virtual_switch", id)!;
  const uplinks = new Set(book.of("uplink", "switch", id).map((u) => u.id));
  const nics = book
    .of("nic", "host", own.host)
    .filter((n) => !n.uplink || uplinks.has(n.uplink))
    .sort((a, b) => Number(Boolean(a.uplink)) - Number(Boolean(b.uplink)) || compareNames(a.name, b.name));
  const tags = new Set([
    ...book.of("port_group", "switch", id).map((g) => g.vid),
    ...book.of("host_port", "switch", id).map((p) => p.vid),
  ]);
  const belong = new Set(book.of("host_port", "switch", id).map((p) => p.belongs));
  const roles = [
    ...new Set(
      book.records.segment.flatMap((s) => (s.role && ((s.vid && tags.has(s.vid)) || belong.has(s.id)) ? s.role : [])),
    ),
  ].sort();
  const [role, setRole] = useState("");
  const [picked, setPicked] = useState<readonly string[]>([]);
  if (!roles.length) return <Quiet>No segment on this switch has a role.</Quiet>;
  if (!nics.length) return <Quiet>This host has no NIC that could lead out.</Quiet>;
  return (
    <GestureForm
      name="split-off"
      args={{ switch: id, role, nics: [...picked] }}
      ready={role !== "" && picked.length > 0}
      action="Split it off"
      done={done}
    >
      <Quiet>
        Its port groups and host ports move to a switch of their own; the ports of its NICs let them through.
      </Quiet>
      <ChoiceLine
        label="Role"
        value={role}
        put={setRole}
        options={[["", "choose one"], ...roles.map((r): [string, string] => [r, r])]}
      />
      <CheckList
        label="NICs that lead out"
        options={nics.map((nic) => [
          nic.id,
          [nic.name, speed(nic.speed), nic.uplink ? "from its uplink" : "free"].filter(Boolean).join(", "),
        ])}
        picked={picked}
        pick={setPicked}
      />
    </GestureForm>
  );
}

/** Each port group gets a member of the team that carries it. */
export function Spread({ id, book, done }: { id: string; book: Book; done: () => void }) {
  const groups = book.of("port_group", "switch", book.get("uplink", id)!.switch).length;
  return (
    <GestureForm name="spread" args={{ uplink: id }} ready={groups > 1} action="Spread them" done={done}>
      <Quiet>
        {groups > 1
          ? "Each port group gets a member that carries it, the fuller ones apart; the others wait for it to fail."
          : "There are no port groups to spread."}
      </Quiet>
    </GestureForm>
  );
}
