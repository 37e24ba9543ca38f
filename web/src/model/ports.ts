import type { RecordOf } from "../api/client";
import { spokenVids, vidsOf } from "./records";

type Group = RecordOf<"port_group">;
type FabricPort = RecordOf<"fabric_port">;
type Uplink = RecordOf<"uplink">;

/** The fields in which a port says what it does with tags, besides its mode and the VID of that. */
const PORT_FIELDS = ["allowed", "native", "pvid", "members", "untagged", "admits", "isolated", "reflects"] as const;

/** What a port (group) carries, in a few words. */
export function tagText(port: Group | FabricPort): string {
  if (port.mode === "access") return String(port.vid);
  if (port.mode === "trunk") return `trunk ${port.allowed || "nothing"}`;
  if (port.mode === "private") return `private ${port.vid}`;
  if (port.mode === "standard") return standardText(port);
  return "vni" in port && port.vni ? `VNI ${port.vni}` : "untagged";
}

/** A port in the standard's own words. */
export function standardText(port: Group | FabricPort | Uplink): string {
  return [
    `members ${port.members || "none"}`,
    port.untagged && `untagged ${port.untagged}`,
    port.pvid && `PVID ${port.pvid}`,
  ]
    .filter(Boolean)
    .join(", ");
}

/** What an uplink lets through, and over what it goes where it has no NICs of its own. */
export function uplinkText(uplink: Uplink): string {
  if (uplink.members != null) return standardText(uplink);
  return uplink.allowed == null ? "all VIDs" : `allows ${spokenVids(uplink.allowed)}`;
}

/** What a port does beside the usual for its mode, as words; nothing where it is as everybody expects. */
export function unusual(port: Group | FabricPort | Uplink): string[] {
  const usual =
    "mode" in port && (port.mode === "access" || port.mode === "private" || port.mode === "untagged")
      ? "untagged"
      : "all";
  const admits =
    port.admits && port.admits !== usual ? (port.admits === "all" ? "admits tags" : `admits ${port.admits} only`) : "";
  return [
    admits,
    port.isolated ? "isolated" : "",
    port.reflects ? "reflects" : "",
    "partial" in port && port.partial ? "perhaps more" : "",
  ].filter(Boolean);
}

/** All that a fabric port says of tags, in one line. */
export function settings(port: FabricPort): string {
  return [tagText(port), port.native ? `native ${port.native}` : "", ...unusual(port)].filter(Boolean).join(", ");
}

/** Whether frames of a VID pass at a fabric port. */
export function carriesVid(port: FabricPort, vid: number): boolean {
  if (port.mode === "standard") return vidsOf(port.members).has(vid);
  return port.mode === "trunk" ? port.native === vid || vidsOf(port.allowed).has(vid) : port.vid === vid;
}

/** A fabric port's VIDs one by one, the native or PVID first, for drawings that have room for some of them. */
export function tagList(port: FabricPort): string[] {
  const listed = (text: string | null | undefined): string[] => (text ?? "").split(/,\s*/).filter(Boolean);
  if (port.mode === "standard")
    return [
      ...(port.pvid ? [`PVID ${port.pvid}`] : []),
      ...listed(port.untagged).map((v) => `${v} bare`),
      ...listed(port.members),
    ];
  return port.mode === "trunk"
    ? [...(port.native ? [`native ${port.native}`] : []), ...listed(port.allowed)]
    : [String(port.vid)];
}

/** What a port says in its port fields, to be set elsewhere alike; a field left out is set back to its default. */
export const portFields = (port: Group | FabricPort | Uplink): Record<string, unknown> =>
  Object.fromEntries(
    PORT_FIELDS.map((name) => [name, port[name] ?? (name === "isolated" || name === "reflects" ? false : null)]),
  );

/** How a port (group) looks to frames, to be set elsewhere alike. */
export const portLike = (port: Group | FabricPort): Record<string, unknown> => ({
  mode: port.mode,
  vid: port.vid ?? null,
  ...portFields(port),
});
