import { useState, type FormEvent, type ReactNode } from "react";

import { useActions, useGesture, usePresence, type Gestures } from "../api/plan";
import { compareNames, speed, type Book } from "../model/records";
import { ChoiceLine, Quiet, TakeButton, Taking, Told } from "../parts/controls";
import { Outcome } from "./Panel";

/** A gesture in a panel: a choice, what it would change, and the button that makes it. */
export function GestureForm<G extends keyof Gestures>({
  name,
  args,
  ready,
  action,
  done,
  children,
}: {
  name: G;
  args: Gestures[G];
  ready: boolean;
  action: string;
  done: () => void;
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
          <Outcome result={seen.data?.preview ?? undefined} />
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
