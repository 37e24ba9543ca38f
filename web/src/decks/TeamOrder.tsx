import type { RecordOf } from "../api/client";
import { usePlan } from "../api/plan";
import { Quiet } from "../parts/controls";
import { patch } from "./edits";
import { drop, freshId, put } from "./making";
import { FieldForm } from "./Panel";

const OPTIONS: [string, string][] = [
  ["", "as the uplink says"],
  ["active", "active"],
  ["standby", "standby"],
  ["excluded", "excluded"],
];

/** Which NICs a port group uses, and in which order, where that isn't what its uplink says; of a host or a pattern. */
export function TeamOrder({
  group,
  done,
}: {
  group: RecordOf<"port_group"> | RecordOf<"pattern_port_group">;
  done: () => void;
}) {
  const { book } = usePlan();
  const ofPattern = book.get("pattern_port_group", group.id) !== undefined;
  const nics = ofPattern
    ? book.of("pattern_uplink", "switch", group.switch).flatMap((u) => book.of("pattern_nic", "uplink", u.id))
    : book.of("uplink", "switch", group.switch).flatMap((u) => book.of("nic", "uplink", u.id));
  const ordered = [...nics].sort((a, b) => (a.rank ?? 0) - (b.rank ?? 0));
  const kind = ofPattern ? "pattern_order" : "group_order";
  const own = new Map(book.of(kind, "port_group", group.id).map((o) => [o.nic, o]));
  if (nics.length < 2) return <Quiet>Its switch has a single NIC or none: there is no order to choose.</Quiet>;
  return (
    <FieldForm
      fields={ordered.map((n) => ({ name: n.id, label: n.name, kind: "choice", options: OPTIONS, unless: "" }))}
      record={Object.fromEntries([...own].map(([nic, o]) => [nic, o.role ?? "active"]))}
      compose={(set) =>
        Object.entries(set).map(([nic, role]) => {
          const held = own.get(nic);
          if (!role) return drop(kind, held!.id);
          const rank = ordered.findIndex((n) => n.id === nic);
          if (held) return patch(kind, held.id, { role, rank });
          const id = freshId(book, `${group.id}/order-${ordered[rank]?.name ?? ""}`);
          return put(kind, { id, port_group: group.id, nic, role, rank });
        })
      }
      message={() => `Give ${group.name} a team order of its own${ofPattern ? " in the pattern" : ""}`}
      done={done}
      beside={ofPattern}
    />
  );
}
