import { useState } from "react";
import { Link } from "react-router";

import { usePlan } from "../api/plan";
import { drop } from "../decks/making";
import { ListWithDrops } from "../decks/RecordPanel";
import { compareNames } from "../model/records";
import { LinkButton, Quiet } from "../parts/controls";
import { FlowForm } from "./FlowForm";
import { mbits } from "./said";

/** What an interface sends, or each on a segment or in a port group; and one more. */
export function Sends({ id, open }: { id: string; open: (id: string) => void }) {
  const { at, base, book } = usePlan();
  const [adding, setAdding] = useState(false);
  const record = book.byId.get(id) as
    { services?: string[]; belongs?: string | null; port_group?: string | null; part?: string | null } | undefined;
  const group = book.get("port_group", record?.port_group ?? "");
  const among = new Set([record?.belongs, record?.part, group?.id, group?.part].filter(Boolean));
  const together = book.records.flow.filter(
    (flow) => among.has(flow.of) || (flow.service && record?.services?.includes(flow.service)),
  );
  const flows = [...book.of("flow", "of", id)].sort((a, b) => compareNames(a.name, b.name));
  return (
    <>
      <ListWithDrops
        label="What it sends"
        items={flows.map((flow) => ({
          key: flow.id,
          text: `${flow.name}: ${[flow.sends && `sends ${mbits(flow.sends)}`, flow.gets && `gets ${mbits(flow.gets)}`]
            .filter(Boolean)
            .join(", ")}`,
          operations: [drop("flow", flow.id)],
          message: `Take ${flow.name} away`,
        }))}
        empty={together.length ? "Nobody said what it alone sends." : "Nobody said what it sends."}
        open={open}
      />
      {together.length > 0 && (
        <Quiet>
          With others it sends: {together.map((flow) => flow.name).join(", ")} (
          <Link className="plain-link" to={`${base}/load`}>
            see Load
          </Link>
          ).
        </Quiet>
      )}
      {at === undefined && !adding && flows.length > 0 && (
        <LinkButton onClick={() => setAdding(true)}>Another flow</LinkButton>
      )}
      {at === undefined && (adding || !flows.length) && <FlowForm flow={null} of={id} done={() => setAdding(false)} />}
    </>
  );
}
