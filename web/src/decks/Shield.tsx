import { useState } from "react";

import { CheckList, ChoiceLine, Quiet, TextLine } from "../parts/controls";
import { speed, type Book } from "../model/records";
import { GestureForm } from "./Gestures";
import { byName } from "./layout";

/** Guests of a host behind a guest that forwards, translates, and lets nobody in. */
export function ShieldGuests({ id, book, done }: { id: string; book: Book; done: () => void }) {
  const segments = byName(book.records.segment.filter((s) => !s.vni && s.subnets?.length));
  const lent = (segment: string): boolean =>
    book.records.outside.some(({ at }) =>
      book.get("way_in", at)
        ? book.get("way_in", at)!.segment === segment
        : book.of("station_port", "station", at).some((port) => port.belongs === segment),
    );
  const guests = book.of("guest", "host", id).filter((g) => !g.routes);
  const nics = book.of("nic", "host", id).filter((n) => !n.uplink && !n.addresses?.length && book.far.get(n.id));
  const [name, setName] = useState("firewall");
  const [outside, setOutside] = useState(() => segments.find((s) => lent(s.id))?.id ?? "");
  const [nic, setNic] = useState("");
  const [subnet, setSubnet] = useState("");
  const [picked, setPicked] = useState<readonly string[]>([]);
  return (
    <GestureForm
      name="shield"
      args={{ host: id, name, outside, subnet, guests: [...picked], nic }}
      ready={[name, outside, subnet].every((said) => said.trim() !== "")}
      action="Put them behind it"
      done={done}
      tells
    >
      <Quiet>
        A guest that forwards and translates, between the segment outside and a sealed switch: those behind it get
        addresses of the subnet, and nobody outside gets in.
      </Quiet>
      <TextLine label="Its name" value={name} put={setName} plain />
      <ChoiceLine
        label="Outside"
        value={outside}
        put={setOutside}
        options={[["", "choose one"], ...segments.map((s): [string, string] => [s.id, `${s.name} ${s.vid ?? ""}`])]}
      />
      <ChoiceLine
        label="Gets out by"
        value={nic}
        put={setNic}
        options={[
          ["", "what the host has"],
          ...nics.map((n): [string, string] => [n.id, [n.name, speed(n.speed), "free"].filter(Boolean).join(", ")]),
        ]}
      />
      <TextLine label="Subnet inside" value={subnet} put={setSubnet} hint="10.79.1.0/24" />
      {guests.length > 0 && (
        <CheckList
          label="Guests behind it"
          options={byName(guests).map((g) => [g.id, g.name] as const)}
          picked={picked}
          pick={setPicked}
        />
      )}
    </GestureForm>
  );
}
