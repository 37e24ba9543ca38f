import { useState } from "react";

import { ChoiceLine, Quiet, TextLine } from "../parts/controls";
import type { Book } from "../model/records";
import { quoted } from "../rules/suggest";
import { GestureForm } from "./Gestures";
import { byName } from "./layout";

/** Copies of guests, or of all who belong on segments, that keep their addresses and meet nobody. */
export function MakeBubble({
  guests = [],
  segments = [],
  book,
  done,
}: {
  guests?: string[];
  segments?: string[];
  book: Book;
  done: () => void;
}) {
  const [name, setName] = useState("lab");
  const [host, setHost] = useState<string | null>(null);
  const [entry, setEntry] = useState("");
  const inside = byName(book.records.guest.filter((g) => !g.routes && (!host || g.host === host)));
  const choose = (where: string): void => {
    setHost(where === "?" ? null : where);
    setEntry("");
  };
  return (
    <GestureForm
      name="bubble"
      args={{ name, guests, segments, host: host ?? "", entry }}
      ready={host !== null && name.trim() !== ""}
      action="Make the bubble"
      done={done}
      tells
    >
      <Quiet>
        For trying a restored backup, or a lab: copies with the same addresses, whom a rule keeps apart from everybody
        else even if they are hostile. Guests that forward come along where they bear a gateway.
      </Quiet>
      <TextLine label="Name" value={name} put={setName} plain />
      <ChoiceLine
        label="Where"
        value={host ?? "?"}
        put={choose}
        options={[
          ["?", "choose one"],
          ...byName(book.records.host).map((h): [string, string] => [
            h.id,
            `sealed in a switch on ${h.name}${h.site ? `, ${h.site}` : ""}`,
          ]),
          ["", "each beside its original, on spare VIDs"],
        ]}
      />
      {host !== null && (
        <ChoiceLine
          label="A way in for"
          value={entry}
          put={setEntry}
          options={[["", "nobody"], ...inside.map((g): [string, string] => [g.id, g.name])]}
        />
      )}
    </GestureForm>
  );
}

/** Whether a role is that of a bubble: a rule keeps it apart from everything. */
export const isBubble = (book: Book, role: string | undefined): role is string =>
  role !== undefined &&
  [quoted(role), `"${role}"`].some((said) =>
    book.records.rule.some((rule) => rule.text === `keep role ${said} apart from everything even if hostile`),
  );

/** All of a bubble taken away. */
export function BurstBubble({ name, done }: { name: string; done: () => void }) {
  return (
    <GestureForm name="burst" args={{ name }} ready action={`Burst ${name}`} done={done}>
      <Quiet>
        Its guests, segments, port groups and rule go, and its VIDs from every list that names them; whoever has a way
        in stays.
      </Quiet>
    </GestureForm>
  );
}
