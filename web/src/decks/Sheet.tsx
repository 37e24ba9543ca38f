import type { Kind } from "../api/client";
import { usePlan } from "../api/plan";
import { patch } from "./edits";
import { fieldsOf, type FieldSpec } from "./fields";
import { drop, dropWhole, freshId, put } from "./making";
import { FieldForm, Panel, Sections } from "./Panel";
import { ListWithDrops } from "./RecordPanel";
import { segmentTag } from "../model/records";
import { LinkButton, Quiet } from "../parts/controls";

type Page = "host" | "fabric_switch" | "segment" | "secondary_vlan" | "limits" | "assumed_fabric";
const PAGES: [Page, string][] = [
  ["host", "Host"],
  ["fabric_switch", "Fabric switch"],
  ["segment", "Segments"],
  ["secondary_vlan", "Private VLANs"],
  ["limits", "Limits"],
  ["assumed_fabric", "Assumed"],
];

/** What belongs to the plan as a whole: its segments, and the hosts and switches that are yet to come. */
export function Sheet({ page, close, open }: { page?: string; close: () => void; open: (id: string) => void }) {
  const { book } = usePlan();
  const { host, segment } = book.records;
  const first = page ?? (!host.length || segment.length ? "host" : "segment");
  return (
    <Panel title="Add to the plan" close={close}>
      <Sections
        label="What to add"
        first={PAGES.findIndex(([page]) => page === first)}
        sections={PAGES.map(([page, label]) => ({
          label,
          body: <PageBody page={page} close={close} open={open} />,
        }))}
      />
    </Panel>
  );
}

function PageBody({ page, close, open }: { page: Page; close: () => void; open: (id: string) => void }) {
  const { book } = usePlan();
  if (page === "limits") {
    const sheet = book.records.limits[0];
    return (
      <>
        <Quiet>The most that your hosts take of something. What is over it becomes a finding.</Quiet>
        <FieldForm
          fields={fieldsOf("limits", book)}
          record={sheet}
          compose={(set) => [sheet ? patch("limits", sheet.id, set) : put("limits", { id: "limits", ...set })]}
          message={() => "Change the limits sheet"}
          done={close}
        />
      </>
    );
  }
  if (page === "host") {
    const fields: FieldSpec[] = [
      ...fieldsOf("host", book).map((field) =>
        field.name === "name" ? { ...field, hint: "several: tern-[1-10], or a, b" } : field,
      ),
      { name: "nics", label: "NICs", kind: "number", unless: 2 },
      { name: "speed", label: "Their speed", kind: "number", hint: "Mbit/s" },
    ];
    return (
      <FieldForm
        fields={fields}
        making
        compose={({ name, site, nics, speed }) => {
          const count = Math.min(Number(nics ?? 2), 16);
          return namesIn(String(name ?? "")).flatMap((each) => {
            const id = freshId(book, each);
            return [
              put("host", { id, name: each, ...(site ? { site } : {}) }),
              ...Array.from({ length: count }, (_, n) =>
                put("nic", { id: `${id}/nic${n}`, host: id, name: `nic${n}`, ...(speed ? { speed } : {}) }),
              ),
            ];
          });
        }}
        message={({ name }) => {
          const names = namesIn(String(name ?? ""));
          return names.length > 1
            ? `Add ${names.length} hosts, ${names[0]} to ${names.at(-1)}`
            : `Add host ${names[0]}`;
        }}
        done={close}
        action="Add the host"
      />
    );
  }
  const labels: Record<Exclude<Page, "limits" | "host">, [string, string]> = {
    fabric_switch: ["Add the switch", "No fabric switch yet."],
    segment: ["Add the segment", "No segment yet: say which broadcast domains you want, and with which VID."],
    secondary_vlan: ["Add the secondary VLAN", "No private VLAN yet."],
    assumed_fabric: ["Assume it", "Nothing is assumed about what is behind open ends."],
  };
  const [action, empty] = labels[page];
  const fields = fieldsOf(page, book);
  const asked = ["name", "site"].flatMap((name) => fields.filter((f) => f.name === name));
  const ordered =
    page === "fabric_switch"
      ? [
          ...asked.map((f) => ({ ...f, more: false })),
          ...fields.filter((f) => !asked.includes(f)).map((f) => ({ ...f, more: true })),
        ]
      : fields;
  return (
    <>
      {page === "segment" && book.records.segment.length > 0 ? (
        <ul className="plain-list" aria-label="Segments">
          {book.records.segment.map((s) => (
            <li key={s.id}>
              <LinkButton onClick={() => open(s.id)}>{s.name}</LinkButton>
              <span className="mono">{segmentTag(s)}</span>
            </li>
          ))}
        </ul>
      ) : page === "fabric_switch" ? null : (
        <ListWithDrops label="What there is" items={listed(page, book)} empty={empty} open={open} />
      )}
      <FieldForm
        fields={ordered}
        making
        compose={(set) =>
          ready(page, set, book)
            ? [put(page, { id: freshId(book, newId(page, set)), ...defaults(page, set, book), ...set })]
            : []
        }
        message={(set) => `${action}: ${String(set.name ?? set.vid ?? set.site ?? "")}`}
        done={close}
        action={action}
      />
    </>
  );
}

/** So many are added at once. */
const MOST = 200;

/** The names that a text stands for: those between commas, and one for each number of a [1-10], written as wide. */
function namesIn(text: string): string[] {
  const names = text.split(",").flatMap((part) => {
    const [all, before = "", first = "", last = "", after = ""] = /^(.*)\[(\d+)-(\d+)\](.*)$/.exec(part.trim()) ?? [];
    if (all === undefined) return part.trim() || [];
    const count = Math.min(MOST, Math.max(0, Number(last) - Number(first) + 1));
    return Array.from(
      { length: count },
      (_, n) => `${before}${String(Number(first) + n).padStart(first.length, "0")}${after}`,
    );
  });
  return [...new Set(names)].slice(0, MOST);
}

type Book = ReturnType<typeof usePlan>["book"];

function ready(page: Page, set: Record<string, unknown>, book: Book): boolean {
  if (page === "secondary_vlan") return Boolean(set.vid && book.records.segment.some((s) => s.vid));
  if (page === "assumed_fabric") return Boolean(set.site && set.allowed);
  return Boolean(set.name);
}

/** What a select shows first is meant even where nobody touched it. */
function defaults(page: Page, set: Record<string, unknown>, book: Book): Record<string, unknown> {
  if (page !== "secondary_vlan") return {};
  return { segment: set.segment ?? book.records.segment.find((s) => s.vid)?.id, type: set.type ?? "isolated" };
}

function newId(page: Page, set: Record<string, unknown>): string {
  if (page === "fabric_switch") return String(set.name);
  const called = set.name ?? set.vid ?? set.site ?? "";
  return `${page.replaceAll("_", "-")}-${String(called)}`;
}

function listed(
  page: Page,
  book: Book,
): { key: string; text: string; operations: ReturnType<typeof dropWhole>; message: string }[] {
  const item = (kind: Kind, id: string, text: string) => ({
    key: id,
    text,
    operations: [drop(kind, id)],
    message: `Remove: ${text}`,
  });
  if (page === "secondary_vlan")
    return book.records.secondary_vlan.map((s) =>
      item(page, s.id, `${s.vid} ${s.type} of ${book.get("segment", s.segment)?.name ?? ""}`),
    );
  if (page === "assumed_fabric")
    return book.records.assumed_fabric.map((a) => item(page, a.id, `${a.site}: ${a.allowed}`));
  return [];
}
