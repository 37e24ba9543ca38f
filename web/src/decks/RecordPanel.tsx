import { useState } from "react";

import type { Kind } from "../api/client";
import { usePlan } from "../api/plan";
import { portsFor, seatsFor, unplug, type Proposal } from "./edits";
import { FieldForm, OutcomeList, Panel, type FieldSpec } from "./Panel";

/** What can be changed about one record, beside it on the drawing. */
export function RecordPanel({ id, close }: { id: string; close: () => void }) {
  const { book, edit } = usePlan();
  const record = book.byId.get(id);
  const [other, setOther] = useState(false);
  if (!record) return null;
  const take = (proposal: Proposal): void => {
    void edit(proposal.message, proposal.operations).then((made) => made && close());
  };
  const kind: Kind = record.kind;
  const name = String(record.name ?? id);

  if (kind === "adapter") {
    const adapter = book.get("adapter", id)!;
    const guest = book.get("guest", adapter.guest);
    const segments: [string, string][] = book.records.segment.map((s) => [s.id, `${s.name}${s.vid ? ` ${s.vid}` : ""}`]);
    return (
      <Panel title={`${adapter.name} of ${guest?.name ?? ""}`} close={close}>
        {other ? (
          <FieldForm
            kind="adapter"
            id={id}
            fields={[
              { name: "belongs", label: "Belongs on", kind: "choice", value: adapter.belongs, options: [["", "not said"], ...segments] },
              { name: "connected", label: "Connected", kind: "flag", value: adapter.connected ?? true },
            ]}
            message={(set) => ("belongs" in set ? `Say where ${guest?.name ?? name} belongs` : `${set.connected ? "Connect" : "Disconnect"} ${guest?.name ?? name}`)}
            done={close}
          />
        ) : (
          <>
            <h3>Move to a port group of its host</h3>
            <OutcomeList label="Port groups" proposals={seatsFor(book, adapter)} endpoint={id} take={take} empty="Its host has no other port group." />
            <button type="button" className="panel-link" onClick={() => setOther(true)}>
              Where it belongs, and whether it is connected
            </button>
          </>
        )}
      </Panel>
    );
  }
  if (kind === "nic") {
    const nic = book.get("nic", id)!;
    const gone = unplug(book, nic);
    return (
      <Panel title={`Cable of ${book.get("host", nic.host)?.name ?? ""} ${nic.name}`} close={close}>
        <h3>Plug it into</h3>
        <OutcomeList label="Ports" proposals={[...portsFor(book, nic), ...(gone ? [gone] : [])]} endpoint={null} take={take} empty="No fabric port at its site is free." />
      </Panel>
    );
  }
  if (kind === "fabric_port") {
    const port = book.get("fabric_port", id)!;
    const far = book.get("nic", book.far.get(id)?.id);
    const sw = book.get("fabric_switch", port.switch);
    if (other && far) {
      const elsewhere = portsFor(book, far);
      return (
        <Panel title={`Cable of ${book.get("host", far.host)?.name ?? ""} ${far.name}`} close={close}>
          <h3>Move it to</h3>
          <OutcomeList label="Ports" proposals={elsewhere} endpoint={null} take={take} empty="No other port at this site is free." />
        </Panel>
      );
    }
    return (
      <Panel title={`Port ${port.name} of ${sw?.name ?? ""}`} close={close}>
        <FieldForm
          kind="fabric_port"
          id={id}
          fields={[...tagFields(port, ["access", "trunk"]), { name: "enabled", label: "Enabled", kind: "flag", value: port.enabled ?? true }]}
          message={(set) => tagMessage(`port ${port.name} of ${sw?.name ?? ""}`, set)}
          done={close}
        />
        {far && (
          <button type="button" className="panel-link" onClick={() => setOther(true)}>
            Move its cable to another port
          </button>
        )}
      </Panel>
    );
  }
  if (kind === "port_group") {
    const group = book.get("port_group", id)!;
    return (
      <Panel title={`Port group ${group.name}`} close={close}>
        <FieldForm
          kind="port_group"
          id={id}
          fields={[...tagFields(group, ["access", "trunk", "untagged"]), { name: "name", label: "Name", kind: "text", value: group.name }]}
          message={(set) => tagMessage(`port group ${group.name}`, set)}
          done={close}
        />
      </Panel>
    );
  }
  const forms: Partial<Record<Kind, { title: string; fields: FieldSpec[]; message: (set: Record<string, unknown>) => string }>> = {
    host_port: {
      title: `Host port ${name}`,
      fields: [
        { name: "vid", label: "VID", kind: "vid", value: record.vid, hint: "untagged" },
        { name: "connected", label: "Connected", kind: "flag", value: record.connected ?? true },
      ],
      message: (set) => ("vid" in set ? `Tag host port ${name} ${String(set.vid ?? "not at all")}` : `Change host port ${name}`),
    },
    uplink: {
      title: `Uplink ${name}`,
      fields: [
        { name: "allowed", label: "Lets through", kind: "vids", value: record.allowed, hint: "every VID" },
        { name: "native", label: "Native VLAN", kind: "vid", value: record.native, hint: "untagged stays untagged" },
        { name: "mode", label: "Mode", kind: "choice", value: record.mode ?? "standby", options: [["standby", "one carries"], ["pinned", "each adapter pinned"], ["hashed", "each flow hashed"], ["lacp", "LACP"]] },
      ],
      message: () => `Change uplink ${name}`,
    },
    guest: {
      title: `Guest ${name}`,
      fields: [{ name: "running", label: "Running", kind: "flag", value: record.running ?? true }],
      message: (set) => `${set.running ? "Start" : "Stop"} ${name}`,
    },
    fabric_switch: {
      title: `Fabric switch ${name}`,
      fields: [{ name: "vlans", label: "Defines VIDs", kind: "vids", value: record.vlans, hint: "all of them" }],
      message: () => `Change what ${name} defines`,
    },
  };
  const form = forms[kind];
  if (!form) return null;
  return (
    <Panel title={form.title} close={close}>
      <FieldForm kind={kind} id={id} fields={form.fields} message={form.message} done={close} />
    </Panel>
  );
}

function tagFields(record: { mode: string; vid?: number | null; allowed?: string | null; native?: number | null }, modes: string[]): FieldSpec[] {
  const is = (mode: string) => (draft: Record<string, unknown>) => draft.mode === mode;
  const tag: FieldSpec[] = [
    { name: "vid", label: "VID", kind: "vid", value: record.vid, when: is("access") },
    { name: "allowed", label: "Allowed VIDs", kind: "vids", value: record.allowed, hint: "110, 200-219", when: is("trunk") },
    { name: "native", label: "Native VLAN", kind: "vid", value: record.native, hint: "untagged frames dropped", when: is("trunk") },
  ];
  return [...tag, { name: "mode", label: "Mode", kind: "choice", value: record.mode, options: modes.map((m) => [m, m]) }];
}

function tagMessage(what: string, set: Record<string, unknown>): string {
  if (set.vid) return `Tag ${what} ${String(set.vid)}`;
  if (typeof set.allowed === "string") return `Allow ${set.allowed || "nothing"} on ${what}`;
  return `Change ${what}`;
}

