import type { Kind } from "../api/client";
import { usePlan } from "../api/plan";
import { counted } from "../model/kinds";
import type { Book } from "../model/records";
import { MakeBubble } from "./Bubbles";
import { moveAdapter, patch, type Proposal } from "./edits";
import { fieldsOf, type Draft, type FieldSpec } from "./fields";
import { FieldForm, OutcomeList, Panel, Sections } from "./Panel";
import { LinkButton, TakeButton } from "../parts/controls";

/** The records of the same kind and the same names as some (NICs, port groups ...), wherever they are. */
export function namesakes(book: Book, ids: readonly string[]): string[] {
  const kind = book.byId.get(ids[0] ?? "")?.kind;
  if (!kind) return [];
  const names = new Set(ids.map((id) => book.byId.get(id)?.name));
  return (book.records[kind] as { id: string; name?: unknown }[]).filter((r) => names.has(r.name)).map((r) => r.id);
}

/** What is picked, said under the list of segments, with what can be done with it. */
export function PickBar({
  picked,
  pick,
  open,
}: {
  picked: readonly string[];
  pick: (ids: string[]) => void;
  open: () => void;
}) {
  const { book } = usePlan();
  const kind = picked[0] && book.byId.get(picked[0])?.kind;
  if (!kind) return null;
  const alike = namesakes(book, picked);
  const names = [...new Set(picked.map((id) => String(book.byId.get(id)?.name ?? id)))];
  return (
    <div className="pick-bar" role="toolbar" aria-label="Picked">
      <span role="status">
        <b>{counted(kind, picked.length)}</b> picked: {names.slice(0, 4).join(", ")}
        {names.length > 4 ? ` and ${names.length - 4} more` : ""}
      </span>
      <TakeButton onClick={open} title="E">
        Edit together
      </TakeButton>
      {alike.length > picked.length && (
        <button type="button" className="chip" onClick={() => pick(alike)} title="Shift X">
          Pick all {alike.length} of {names.length === 1 ? "this name" : "these names"}
        </button>
      )}
      <LinkButton onClick={() => pick([])}>Let go</LinkButton>
    </div>
  );
}

/** Fields whose values agree stand there; the others say so, and stay as they are unless somebody writes into them. */
function shared(book: Book, kind: Kind, ids: string[]): { fields: FieldSpec[]; record: Draft } {
  const records = ids.map((id) => book.byId.get(id) as Draft);
  const record: Draft = {};
  const fields = fieldsOf(kind, book, ids[0])
    .filter((f) => f.name !== "name" && (f.kind !== "ref" || f.name === "belongs"))
    .map((f): FieldSpec => {
      const values = records.map((r) => r[f.name] ?? f.unless ?? null);
      if (values.every((v) => JSON.stringify(v) === JSON.stringify(values[0]))) {
        if (records[0]![f.name] !== undefined) record[f.name] = records[0]![f.name];
        return f;
      }
      const hint = "they differ";
      if (f.kind === "flag" || f.kind === "maybe")
        return {
          ...f,
          kind: "maybe",
          unless: null,
          options: [
            ["", hint],
            ["true", "yes"],
            ["false", "no"],
          ],
        };
      return {
        ...f,
        unless: f.kind === "text" && f.unless !== null ? "" : f.kind === "number" ? undefined : null,
        hint,
        options: f.options && [["", hint], ...f.options.filter(([key]) => key)],
      };
    });
  return { fields, record };
}

/** Several records of one kind, on whichever hosts, changed by one edit. */
export function ManyPanel({ ids, close }: { ids: string[]; close: () => void }) {
  const { book, edit } = usePlan();
  const kind = book.byId.get(ids[0] ?? "")?.kind;
  if (!kind) return null;
  const { fields, record } = shared(book, kind, ids);
  const take = (proposal: Proposal): void => {
    void edit(proposal.message, proposal.operations).then((made) => made && close());
  };
  const settings = {
    label: "Settings",
    body: (
      <FieldForm
        fields={fields}
        record={record}
        compose={(set) => ids.map((id) => patch(kind, id, set))}
        message={() => `Change ${counted(kind, ids.length)}`}
        done={close}
      />
    ),
  };
  const move = {
    label: "Move",
    body: (
      <OutcomeList
        label="Port groups"
        proposals={kind === "adapter" ? movesTogether(book, ids) : []}
        endpoint={null}
        take={take}
        empty="No port group has the same name on all of their hosts."
      />
    ),
  };
  const guests = [...new Set(ids.flatMap((id) => book.get("adapter", id)?.guest ?? []))];
  const bubble = { label: "Bubble", body: <MakeBubble guests={guests} book={book} done={close} /> };
  return (
    <Panel title={counted(kind, ids.length)} close={close}>
      <Sections label="What to do" sections={kind === "adapter" ? [settings, move, bubble] : [settings]} />
    </Panel>
  );
}

/** The port groups that go by one name on the host of every one of these adapters. */
function movesTogether(book: Book, ids: string[]): Proposal[] {
  const adapters = ids.map((id) => book.get("adapter", id)!);
  const seats = adapters.map((adapter) => {
    const host = book.get("guest", adapter.guest)?.host ?? "";
    const groups = book.of("virtual_switch", "host", host).flatMap((sw) => book.of("port_group", "switch", sw.id));
    return new Map(groups.map((group) => [group.name, group]));
  });
  const names = [...(seats[0]?.keys() ?? [])].filter((name) => seats.every((of) => of.has(name))).sort();
  return names.map((name) => {
    const moves = adapters.map((adapter, n) => moveAdapter(book, adapter, seats[n]!.get(name)!));
    const details = [...new Set(moves.map((m) => m.detail))];
    return {
      key: name,
      label: name,
      detail: details.length === 1 ? details[0]! : `${details.length} different ways`,
      message: `Move ${counted("adapter", ids.length)} to ${name}`,
      operations: moves.flatMap((m) => m.operations),
    };
  });
}
