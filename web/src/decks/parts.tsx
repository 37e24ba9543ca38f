import { Waypoints } from "lucide-react";

import type { Endpoint, RecordOf } from "../api/client";
import type { Reading } from "../model/over";
import type { Book } from "../model/records";
import { segmentStyle, segmentWith, sourceOf, speed } from "../model/records";
import { MARKS, VERDICTS, type Mark } from "../model/verdicts";
import { VerdictMark } from "../parts/VerdictMark";
import { carriesVid, settings, tagList, tagText, unusual, uplinkText } from "../model/ports";
import { standingAt } from "./edits";
import type { Bar, Column, NicBox, Rect, SlotBox, SwitchBox, TeamLabel, Trunk } from "./layout";

/** What every part of the drawing needs to know. */
export interface Scene {
  book: Book;
  endpoints: Reading<string, Endpoint>;
  /** The endpoints by the name of their host. */
  ofHost: ReadonlyMap<string, readonly Endpoint[]>;
  segmentOf: ReadonlyMap<number, RecordOf<"segment">>;
  numberOf: ReadonlyMap<string, number>;
  follow: RecordOf<"segment"> | null;
  touched: ReadonlySet<string>;
  broken: ReadonlySet<string>;
  /** The hosts that are off their pattern. */
  off: ReadonlySet<string>;
  selected: string | null;
  /** Record ids on which what is dragged may be dropped, and the one it is over. */
  targets: ReadonlySet<string>;
  over: string | null;
  select: (id: string) => void;
  grab: (event: React.PointerEvent, id: string) => void;
}

export const place = (r: Rect): React.CSSProperties => ({ left: r.x, top: r.y, width: r.w, height: r.h });
/** Where a part lies of which there are many. */
const amid = (r: Rect): React.CSSProperties => ({ marginLeft: r.x, marginTop: r.y, width: r.w, height: r.h });
/** Whether a text surely fits: what does needn't be cut off, and is drawn with the rest in one go. */
const fits = (text: string, size: number, room: number): boolean =>
  [...text].reduce((width, letter) => width + (WIDTHS.find(([of]) => of.test(letter))?.[1] ?? 1), 0) * size <= room;
const WIDTHS: readonly (readonly [RegExp, number])[] = [
  [/[fijlrt.:-]/, 0.42],
  [/[a-ln-vx-z0-9]/, 0.64],
];
const markOf = (e: Endpoint | undefined): Mark => (e ? (e.idle ? "idle" : e.verdict) : "unproven");
export const hueOf = (scene: Scene, vid: number | null | undefined): string | undefined => {
  const segment = vid ? scene.segmentOf.get(vid) : undefined;
  return segment ? segmentStyle(scene.numberOf.get(segment.id) ?? 0).color : undefined;
};
/** Whether the followed segment passes a part; a guest, by one of its adapters. */
const passes = ({ book, touched }: Scene, id: string): boolean =>
  touched.has(id) || book.of("adapter", "guest", id).some((adapter) => touched.has(adapter.id));
const names = (scene: Scene, id: string, ...more: (string | false | undefined)[]): string =>
  [
    ...more,
    scene.follow && !passes(scene, id) && "off",
    scene.selected === id && "chosen",
    scene.targets.has(id) && "target",
    scene.over === id && "over",
  ]
    .filter(Boolean)
    .join(" ");

export function Marks({ endpoints }: { endpoints: readonly Endpoint[] }) {
  const counts = new Map<Mark, number>();
  for (const e of endpoints) counts.set(markOf(e), (counts.get(markOf(e)) ?? 0) + 1);
  return (
    <span className="column-marks">
      {MARKS.filter((m) => counts.has(m)).map((m) => (
        <span key={m}>
          <VerdictMark mark={m} title={m} /> {counts.get(m)}
        </span>
      ))}
    </span>
  );
}

export function HostHead({
  scene,
  column,
  toggle,
  open,
}: {
  scene: Scene;
  column: Column;
  toggle: () => void;
  open: () => void;
}) {
  const host = scene.book.get("host", column.host)!;
  const own = scene.ofHost.get(host.name) ?? [];
  // A site of which a letter or two would be left isn't said.
  const room =
    column.w - 60 - host.name.length * 7.8 - new Set(own.map(markOf)).size * 28 - (scene.off.has(host.id) ? 18 : 0);
  if (column.collapsed) {
    return (
      <button
        type="button"
        className="column-closed"
        style={{ left: column.x, top: 6, width: column.w, height: 230 }}
        aria-expanded={false}
        onClick={toggle}
        title={`Open ${host.name}`}
        data-id={host.id}
      >
        <Marks endpoints={own} />
        <strong>{host.name}</strong>
      </button>
    );
  }
  return (
    <>
      <button
        type="button"
        className={`column-head ${scene.selected === host.id ? "flash" : ""}`}
        style={{ left: column.x, top: 6, width: column.w - 32 }}
        aria-expanded
        onClick={toggle}
        title={`Fold ${host.name} up`}
        data-id={host.id}
      >
        <strong>{host.name}</strong>
        <span className={room > 40 ? "site" : "visually-hidden"}>{host.site}</span>
        {scene.off.has(host.id) && (
          <span className="off-pattern" title={`${host.name} is off its pattern`}>
            ≠<span className="visually-hidden">off its pattern</span>
          </span>
        )}
        <Marks endpoints={own} />
      </button>
      <button
        type="button"
        className="head-open"
        style={{ left: column.x + column.w - 30, top: 9 }}
        title="Build on this host, or change it (N makes a switch)"
        aria-label={`Build on ${host.name}`}
        onClick={open}
      >
        +
      </button>
    </>
  );
}

/** The guests of a host, gathered: how many there are, and how their adapters fare. */
export function GatherStrip({
  scene,
  host,
  gather,
  toggle,
}: {
  scene: Scene;
  host: string;
  gather: NonNullable<Column["gather"]>;
  toggle: () => void;
}) {
  const guests = scene.book.of("guest", "host", host);
  const own = guests.flatMap((g) => scene.book.of("adapter", "guest", g.id));
  const found = own.flatMap((a) => scene.endpoints.get(a.id) ?? []);
  const name = scene.book.get("host", host)!.name;
  return (
    <button
      type="button"
      className="gather"
      style={place(gather)}
      aria-expanded={!gather.folded}
      title={gather.folded ? `Show the guests of ${name}` : `Gather the guests of ${name}`}
      onClick={toggle}
    >
      {gather.folded ? "+" : "−"} {guests.length} {guests.length === 1 ? "guest" : "guests"}
      <span className="visually-hidden"> of {name}</span>
      <Marks endpoints={found} />
    </button>
  );
}

/** A guest's interfaces by the names that it sees, and the segments that they are in. */
function interfacesOf(book: Book, guest: string): string {
  const segment = (id: string | null | undefined): string => book.get("segment", id)?.name ?? "no segment said";
  return book
    .of("adapter", "guest", guest)
    .flatMap((adapter) => {
      const name = adapter.seen_as || adapter.name;
      const tags = book.of("guest_tag", "adapter", adapter.id);
      return tags.length
        ? tags.map((tag) => `${name} tag ${tag.vid} (${segment(tag.belongs)})`)
        : [`${name} (${segment(adapter.belongs)})`];
    })
    .join(", ");
}

export function GuestCard({ scene, id, rect }: { scene: Scene; id: string; rect: Rect }) {
  const guest = scene.book.get("guest", id)!;
  const running = guest.running ?? true;
  const forwards = guest.routes ? interfacesOf(scene.book, id) : "";
  return (
    <button
      type="button"
      data-id={id}
      className={names(
        scene,
        id,
        "guest",
        !running && "asleep",
        (forwards || !fits(guest.name, 11.5, rect.w - 14)) && "cut",
      )}
      style={amid(rect)}
      title={[
        `${guest.name}${running ? "" : " (off)"}. Drag it, or press M, to move it to another host.`,
        ...(forwards ? [`It forwards between ${forwards}.`] : []),
      ].join("\n")}
      onClick={() => scene.select(id)}
      onPointerDown={(e) => scene.grab(e, id)}
    >
      {forwards && (
        <span className="forwards" aria-hidden>
          ⇄{" "}
        </span>
      )}
      {guest.name}
      {forwards && <span className="visually-hidden"> (forwards between {forwards})</span>}
      {!running && <span className="visually-hidden"> (off)</span>}
    </button>
  );
}

export function AdapterTab({
  scene,
  id,
  rect,
  order,
  level,
}: {
  scene: Scene;
  id: string;
  rect: Rect;
  order: number;
  level: boolean;
}) {
  const adapter = scene.book.get("adapter", id)!;
  const endpoint = scene.endpoints.get(id);
  const mark = markOf(endpoint);
  const tags = scene.book.of("guest_tag", "adapter", id).length;
  const group = scene.book.get("port_group", adapter.port_group);
  const direct = scene.book.get("nic", adapter.function_of);
  const several = scene.book.of("adapter", "guest", adapter.guest).length > 1;
  const deviates = OWN.some((g) => adapter[g] != null && adapter[g] !== group?.[g]);
  const mirrored = scene.book.of("mirror", "source", id).length > 0;
  const seat = group ? group.name : direct ? `past the switch on ${direct.name}` : "no port group";
  const could = scene.book.could[id] ?? [];
  const beyond = could.length
    ? `, could reach ${could.map((s) => scene.book.get("segment", s)?.name ?? s).join(", ")}`
    : "";
  const odd = `${deviates ? ", deviates from its port group" : ""}${mirrored ? ", mirrored" : ""}${beyond}`;
  const written = direct ? "SR" : tags ? `${tags}×` : several ? String(order + 1) : "";
  const said = `${adapter.name} of ${scene.book.get("guest", adapter.guest)?.name ?? ""}: ${mark}, in ${seat}${odd}`;
  return (
    <button
      type="button"
      data-id={id}
      className={names(
        scene,
        id,
        "tab",
        level && "level",
        deviates && "deviates",
        beyond && "free",
        !written && "bare",
        !fits(written, 11, rect.w - 17) && "cut",
      )}
      style={{ ...amid(rect), backgroundImage: `var(--mark-${mark})` }}
      aria-label={said}
      title={`${said}. Drag it, or press M, to move it.`}
      onClick={() => scene.select(id)}
      onPointerDown={(e) => scene.grab(e, id)}
    >
      {written}
    </button>
  );
}

export function SwitchFrame({ scene, box }: { scene: Scene; box: SwitchBox }) {
  const record = scene.book.get("virtual_switch", box.id)!;
  const shares = scene.book.of("uplink", "switch", record.id).filter((u) => u.over);
  const over = shares.map(
    (u) => `over ${String(scene.book.byId.get(u.over!)?.name ?? "")}${u.vid ? ` tag ${u.vid}` : ""}`,
  );
  // What isn't as everybody expects comes first: a narrow frame has room for two of them.
  const said = [
    ...(over.length ? over : [box.reach]),
    record.partial ? "known in part" : "",
    record.filters === false ? "no filter" : "",
    record.mtu ? `MTU ${record.mtu}` : "",
  ].filter(Boolean);
  return (
    <div className="switch-frame" style={place(box)}>
      <button
        type="button"
        data-id={box.id}
        className={[box.single ? "switch-name narrow" : "switch-name", scene.selected === box.id && "chosen"]
          .filter(Boolean)
          .join(" ")}
        onClick={() => scene.select(box.id)}
        aria-label={`Switch ${record.name}, ${[box.reach, ...said.slice(1)].join(", ")}`}
        title={`${record.name}, ${said.join(", ")}: build on it (G), add a host port, change it`}
      >
        <b className="mono">{record.name}</b>
        {box.single ? said.slice(0, 2).join(" · ") : said.join(" · ")}
      </button>
    </div>
  );
}

export function Slot({ scene, box, gathers }: { scene: Scene; box: SlotBox; gathers: boolean }) {
  const group = scene.book.get("port_group", box.id)!;
  const own = scene.book.of("adapter", "port_group", box.id);
  const members = own.length;
  // Where guests are gathered the worst of them shows here.
  const marks = gathers ? new Set(own.map((a) => markOf(scene.endpoints.get(a.id)))) : null;
  const worst = marks && [...VERDICTS].reverse().find((m) => marks.has(m));
  const hue = hueOf(scene, group.vid);
  const carried =
    group.mode === "overlay"
      ? scene.book.records.segment.find((s) => s.vni === group.vni)
      : segmentWith(scene.book, group.mode === "access" ? group.vid : null);
  const source = sourceOf(scene.book, carried);
  const from = source && (carried?.vanished ? `, vanished from ${source}` : `, of ${source}`);
  const tag =
    group.mode === "access" || group.mode === "private"
      ? String(group.vid)
      : group.mode === "overlay"
        ? `VNI ${group.vni}`
        : group.mode;
  const allowed = GUARDS.filter((g) => group[g]).map((g) => g.replaceAll("_", " "));
  const order = scene.book.of("group_order", "port_group", box.id).length > 0;
  const odd = unusual(group);
  const guards = `${odd.map((word) => `, ${word}`).join("")}${allowed.length ? `, may ${allowed.join(", ")}` : ""}`;
  const on = scene.follow !== null && scene.touched.has(box.id);
  const native = group.native != null ? `, native ${group.native || "untagged"}` : "";
  const ownOrder = order ? ", a team order of its own" : "";
  const spoken = group.mode === "access" ? `tag ${group.vid}` : tagText(group);
  const more = `${guards}${from}`;
  const written =
    group.mode === "trunk" ? `trunk ${group.allowed}${native}` : group.mode === "standard" ? tagText(group) : tag;
  return (
    <button
      type="button"
      data-id={box.id}
      className={names(scene, box.id, "slot", group.mode === "access" && !hue && "unknown", on && "on")}
      style={
        {
          ...amid(box),
          "--seg": on && scene.follow ? segmentStyle(scene.numberOf.get(scene.follow.id) ?? 0).color : hue,
        } as React.CSSProperties
      }
      aria-label={`Port group ${group.name}, ${spoken}, ${members} adapters${order ? ", own team order" : ""}${more}`}
      title={`${group.name}: ${written}${guards}${ownOrder}${from}. Press Enter to change its tag.`}
      onClick={() => scene.select(box.id)}
    >
      <span
        className={
          group.mode === "access"
            ? "slot-tag mono"
            : group.mode === "private"
              ? "slot-tag mono private"
              : "slot-tag small mono"
        }
      >
        {tag}
      </span>
      <span className="slot-name">
        {source && (
          <Waypoints size={11} aria-hidden className={carried?.vanished ? "slot-from vanished" : "slot-from"} />
        )}
        {group.name}
        {order && <i> own order</i>}
        {odd.length > 0 && <i> {odd.join(", ")}</i>}
        {allowed.length > 0 && <i> {allowed.length === 1 ? allowed[0] : `${allowed.length} guards open`}</i>}
      </span>
      <span className="slot-count">
        {worst && <VerdictMark mark={worst} size={9} title={worst === "home" ? "all home" : `some ${worst}`} />}
        {members || ""}
      </span>
    </button>
  );
}

export function HostPortPill({ scene, box }: { scene: Scene; box: SlotBox }) {
  const port = scene.book.get("host_port", box.id)!;
  const mark = markOf(scene.endpoints.get(box.id));
  const on = scene.follow !== null && scene.touched.has(box.id);
  const address = port.addresses?.[0]?.split("/")[0] ?? "";
  return (
    <button
      type="button"
      data-id={box.id}
      className={names(scene, box.id, "host-port", on && "on")}
      style={
        {
          ...amid(box),
          "--seg": on && scene.follow ? segmentStyle(scene.numberOf.get(scene.follow.id) ?? 0).color : undefined,
        } as React.CSSProperties
      }
      aria-label={`Host port ${port.name}, ${port.vid ? `tag ${port.vid}` : "untagged"}, ${mark}`}
      title={[port.name, port.vid ?? "untagged", ...(port.addresses ?? []), (port.services ?? []).join(", ")].join(" ")}
      onClick={() => scene.select(box.id)}
    >
      <VerdictMark mark={mark} size={10} />
      <span>
        <span className="hp-name">
          {port.name} <span className="mono">{port.vid ?? "untagged"}</span>
        </span>
        <span className="hp-address mono">{address}</span>
      </span>
    </button>
  );
}

const GUARDS = ["overhear", "new_address", "foreign_source", "serve_leases", "advertise_routes"] as const;
const OWN = [...GUARDS, "send_rate", "receive_rate"] as const;
const MODES: Record<string, string> = { standby: "standby", pinned: "pinned", hashed: "hashed", lacp: "LACP" };

export function Team({ scene, label }: { scene: Scene; label: TeamLabel }) {
  const uplink = scene.book.get("uplink", label.id);
  if (!uplink) {
    return (
      <span className="team" style={amid(label)}>
        free
      </span>
    );
  }
  const members = scene.book.of("nic", "uplink", uplink.id).length;
  const said = members > 1 ? `${uplink.name} · ${MODES[uplink.mode ?? "standby"] ?? ""}` : "uplink";
  return (
    <button
      type="button"
      data-id={uplink.id}
      className={names(scene, uplink.id, "team")}
      style={amid(label)}
      title={`Uplink ${uplink.name}: ${[uplinkText(uplink), ...unusual(uplink)].join(", ")}`}
      onClick={() => scene.select(uplink.id)}
    >
      {said}
    </button>
  );
}

export function Nic({ scene, box }: { scene: Scene; box: NicBox }) {
  const nic = scene.book.get("nic", box.id)!;
  const uplink = scene.book.get("uplink", nic.uplink);
  const alone = uplink ? scene.book.of("nic", "uplink", uplink.id).length === 1 : true;
  const down = nic.link === "down";
  const part = !uplink
    ? nic.addresses?.length
      ? "the host’s own"
      : nic.wireless
        ? "wireless"
        : "free"
    : down
      ? "no link"
      : nic.role === "excluded"
        ? "excluded"
        : alone
          ? "alone"
          : (uplink.mode ?? "standby") !== "standby"
            ? "member"
            : scene.book.teams.carries[uplink.id] === nic.id
              ? "carries"
              : "waits";
  const long = nic.name.length * 6.8 + speed(nic.speed).length * 6 > box.w - 13;
  const served = nic.cores ? `, served by processors ${nic.cores}` : "";
  return (
    <button
      type="button"
      data-id={box.id}
      className={names(scene, box.id, "nic", down && "down")}
      style={amid(box)}
      aria-label={`${nic.name}, ${part}`}
      title={`${nic.name} ${nic.mac ?? ""} ${speed(nic.speed)}${nic.mtu ? ` MTU ${nic.mtu}` : ""}${served}`}
      onClick={() => scene.select(box.id)}
      onPointerDown={(e) => scene.grab(e, box.id)}
    >
      <span className="nic-name">
        <b>{nic.name}</b> {!long && <span>{speed(nic.speed)}</span>}
      </span>
      <span className={part === "carries" ? "nic-part carries" : "nic-part"}>
        {part} {long && <span>{speed(nic.speed)}</span>}
      </span>
    </button>
  );
}

/** As many words as fit into a few lines of so many characters, and how many more there are. */
export function fitted(words: readonly string[], characters: number, lines: number): string {
  const made = [""];
  for (const [n, word] of words.entries()) {
    const left = words.length - n - 1;
    const longer = `${made.at(-1)}${made.at(-1) ? " " : ""}${word}`;
    const last = made.length === lines && left ? ` +${left}`.length : 0;
    if (!made.at(-1) || longer.length + last <= characters) made[made.length - 1] = longer;
    else if (made.length < lines) made.push(word);
    else return `${made.join("\n")} +${left + 1}`;
  }
  return made.join("\n");
}

/**
 * What a NIC is plugged into: the fabric port with its tags, another host, an assumption, or nothing that anybody
 * knows.
 */
export function FarEnd({ scene, box }: { scene: Scene; box: NicBox }) {
  const port = scene.book.get("fabric_port", box.far);
  if (!port) {
    const nic = scene.book.get("nic", box.id)!;
    const site = scene.book.get("host", nic.host)?.site ?? "";
    const other = scene.book.get("nic", box.far);
    const assumed = nic.uplink ? scene.book.records.assumed_fabric.find((a) => a.site === site) : undefined;
    const said = other
      ? `${scene.book.get("host", other.host)?.name ?? ""} ${other.name}`
      : assumed
        ? `assumed: ${assumed.allowed}`
        : "open end: plug in";
    return (
      <button
        type="button"
        className={names(scene, box.id, "port", "open-end")}
        style={amid(box.below)}
        title={said}
        aria-label={`${nic.name} leads to: ${said}`}
        onClick={() => scene.select(box.id)}
      >
        {said}
      </button>
    );
  }
  const sw = scene.book.get("fabric_switch", port.switch);
  const followed = scene.follow?.vid;
  const wanted = followed != null && scene.touched.has(port.id);
  const carried = followed != null && carriesVid(port, followed);
  const tags = tagList(port);
  const off = port.enabled === false;
  const lag = scene.book.get("lag", port.lag);
  const mode = [off ? "disabled" : port.mode, ...unusual(port), ...(lag ? [lag.name] : [])].join(" ");
  const room = box.below.w - 12;
  const twoNames = `${sw?.name ?? ""} ${port.name}`.length * 5.9 > room;
  const shown = fitted(
    tags,
    Math.floor(room / 5.8),
    3 - Number(twoNames) - Number(!wanted && mode.length * 5.6 > room),
  );
  const spoken = `${[port.mode, ...unusual(port)].join(" ")} ${tags.join(" ")}`;
  const dropped = scene.broken.has(port.id) ? `, ${followed} is dropped here` : "";
  return (
    <button
      type="button"
      data-id={port.id}
      className={names(scene, port.id, "port", scene.broken.has(port.id) && "broken", off && "disabled")}
      style={
        {
          ...amid(box.below),
          "--seg": scene.follow ? segmentStyle(scene.numberOf.get(scene.follow.id) ?? 0).color : undefined,
        } as React.CSSProperties
      }
      aria-label={`Port ${port.name} of ${sw?.name ?? ""}, ${spoken}${dropped}`}
      title={`${sw?.name ?? ""} ${port.name}: ${settings(port)}. Drag it to move the cable.`}
      onClick={() => scene.select(port.id)}
      onPointerDown={(e) => scene.grab(e, port.id)}
    >
      <span className={tags.length > 1 ? "port-name" : "port-name roomy"}>
        {sw?.name}
        {twoNames ? <br /> : " "}
        {port.name}
      </span>
      {wanted && !carried ? (
        <span className="port-missing">lacks {followed}</span>
      ) : wanted && scene.broken.has(port.id) ? (
        <span className="port-missing">no untagged</span>
      ) : wanted && (port.mode === "trunk" || port.mode === "standard") ? (
        <span className="port-carried">has {followed}</span>
      ) : (
        <span className="port-mode">{mode}</span>
      )}
      <span className="port-tags mono">{shown}</span>
    </button>
  );
}

export function FabricBar({ scene, bar, root }: { scene: Scene; bar: Bar; root: boolean }) {
  const record = scene.book.get("fabric_switch", bar.id)!;
  return (
    <div className="bar" style={place(bar)}>
      <button
        type="button"
        data-id={bar.id}
        style={{ marginLeft: 4 + bar.inset, left: 10 }}
        className={`bar-name ${scene.selected === bar.id ? "chosen" : ""}`}
        onClick={() => scene.select(bar.id)}
        aria-label={`Fabric switch ${record.name}${root ? ", root of the spanning tree" : ""}`}
        title={
          record.vlans == null
            ? `${record.name} defines every VID`
            : `${record.name} defines ${record.vlans || "nothing"}`
        }
      >
        {record.name}
        <span>
          {record.site}
          {record.managed === false && " · unmanaged"}
          {record.partial && " · known in part"}
          {root && " · root of the spanning tree"}
        </span>
      </button>
    </div>
  );
}

export function Socket({ scene, id, rect }: { scene: Scene; id: string; rect: Rect }) {
  const port = scene.book.get("fabric_port", id)!;
  const standing = standingAt(scene.book, id);
  const sw = scene.book.get("fabric_switch", port.switch)?.name ?? "";
  const off = port.enabled === false;
  const said = standing
    ? `${standing} on port ${port.name} of ${sw}`
    : `${off ? "Disabled" : "Free"} port ${port.name} of ${sw}`;
  return (
    <button
      type="button"
      data-id={id}
      className={["socket", standing && "station", scene.targets.has(id) && "target", scene.over === id && "over"]
        .filter(Boolean)
        .join(" ")}
      style={place(rect)}
      title={`${port.name}: ${tagText(port)}, ${standing ?? "nothing plugged in"}`}
      aria-label={said}
      onClick={() => scene.select(id)}
    >
      {standing ?? `${port.name} ${off ? "off" : "free"}`}
    </button>
  );
}

/** The free ports for which the bar has no room, behind a button. */
export function MorePorts({ scene, bar }: { scene: Scene; bar: Bar }) {
  if (!bar.more) return null;
  const said = `${bar.more.count} more free ports of ${scene.book.get("fabric_switch", bar.id)?.name ?? ""}`;
  return (
    <button
      type="button"
      className="socket"
      style={place(bar.more)}
      aria-label={said}
      title={said}
      onClick={() => scene.select(bar.id)}
    >
      +{bar.more.count}
    </button>
  );
}

export function TrunkEnd({
  scene,
  end,
  other,
  blocked,
}: {
  scene: Scene;
  end: Trunk["a"];
  other: Trunk["a"];
  blocked: boolean;
}) {
  const { side } = end;
  const port = scene.book.get("fabric_port", end.port)!;
  const style: React.CSSProperties =
    side === "left"
      ? { right: undefined, left: end.x - 40, top: end.y - 8, width: 36, textAlign: "right" }
      : side === "right"
        ? { left: end.x + 4, top: end.y - 8 }
        : { left: end.x + 5, top: side === "up" ? end.y - 21 : end.y + 6 };
  const sw = scene.book.get("fabric_switch", port.switch)?.name ?? "";
  const facing = scene.book.get("fabric_port", other.port)?.name ?? "";
  return (
    <button
      type="button"
      data-id={end.port}
      className={["trunk-end mono", scene.broken.has(end.port) && "broken", scene.selected === end.port && "chosen"]
        .filter(Boolean)
        .join(" ")}
      style={style}
      aria-label={`Port ${port.name} of ${sw}, cabled to ${facing}${blocked ? ", blocked by the spanning tree" : ""}`}
      title={`${sw} ${port.name}: ${settings(port)}`}
      onClick={() => scene.select(end.port)}
    >
      {port.name}
      {blocked && " ⊘"}
    </button>
  );
}
