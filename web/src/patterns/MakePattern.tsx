import { Button, Field, Heading, Input, NativeSelect } from "@chakra-ui/react";
import { useEffect, useRef, useState, type FormEvent } from "react";

import type { Patterns } from "../api/client";
import { useGesture, usePlan, usePresence } from "../api/plan";
import { Outcome } from "../decks/Panel";
import { Quiet, Told } from "../parts/controls";
import { compareNames } from "../model/records";

const OF_SEGMENTS =
  "Its host ports and port groups are those of the plan’s segments, by their roles; " +
  "host addresses count on from the first that is free.";

/** A new pattern: of a host, or of a starting point that takes what it can from the plan’s segments. */
export function MakePattern({
  host,
  starters,
  first,
  done,
}: {
  host: string;
  starters: Patterns["starters"];
  /** Whether there is none yet. */
  first: boolean;
  done: (name: string) => void;
}) {
  const { book, gesture } = usePlan();
  const { busy } = usePresence();
  const hosts = [...book.records.host].sort((a, b) => compareNames(a.name, b.name));
  const [name, setName] = useState(() => (host ? `as ${book.get("host", host)?.name ?? host}` : ""));
  const [of, setOf] = useState(host ? `host ${host}` : "starter two");
  const field = useRef<HTMLInputElement>(null);
  useEffect(() => field.current?.focus(), []);
  const [kind, id = ""] = [of.split(" ")[0], of.slice(of.indexOf(" ") + 1)];
  const args = { name: name.trim(), host: kind === "host" ? id : "", starter: kind === "starter" ? id : "" };
  const seen = useGesture("make-pattern", args, args.name !== "");
  // Not before it is known what it would change: that stands above the button, which would move away under the pointer.
  const ready = !!seen.data && !busy;
  const starter = starters.find((s) => s.id === args.starter);
  const take = (event: FormEvent): void => {
    event.preventDefault();
    if (ready) void gesture("make-pattern", args).then((made) => made && done(args.name));
  };
  return (
    <form onSubmit={take} className="patterns-form">
      <Heading as="h2" size="md" fontWeight="600" mb="1">
        New pattern
      </Heading>
      {first && (
        <Quiet>
          A pattern says once what hosts have alike: switches, uplinks, port groups, host ports. Stamped on hosts it is
          one edit, and whoever is off it is told.
        </Quiet>
      )}
      <Field.Root orientation="horizontal" mt="3" maxW="520px">
        <Field.Label flex="0 0 90px">Name</Field.Label>
        <Input
          ref={field}
          size="xs"
          maxLength={80}
          placeholder="terminal hosts, six NICs"
          value={name}
          onChange={(event) => setName(event.target.value)}
        />
      </Field.Root>
      <Field.Root orientation="horizontal" mt="2" maxW="520px">
        <Field.Label flex="0 0 90px">Made of</Field.Label>
        <NativeSelect.Root size="xs">
          <NativeSelect.Field value={of} onChange={(event) => setOf(event.target.value)}>
            <optgroup label="a starting point">
              {starters.map((s) => (
                <option key={s.id} value={`starter ${s.id}`}>
                  {s.name}
                </option>
              ))}
            </optgroup>
            <optgroup label="all that a host has">
              {hosts.map((h) => (
                <option key={h.id} value={`host ${h.id}`}>
                  {h.name}
                </option>
              ))}
            </optgroup>
          </NativeSelect.Field>
          <NativeSelect.Indicator />
        </NativeSelect.Root>
      </Field.Root>
      <p className="quiet patterns-note">
        {starter
          ? `${starter.does}. ${OF_SEGMENTS}`
          : "Its switches, uplinks, port groups and host ports; the host is stamped with it, as number 1."}
      </p>
      {seen.error ? <Told tone="bad">{seen.error.message}</Told> : null}
      {seen.data && (
        <p className="quiet patterns-note">
          {seen.data.operations} records. {seen.data.preview?.tally.length ? "" : "Nobody’s verdict moves by it."}
        </p>
      )}
      {seen.data?.preview?.tally.length ? <Outcome result={seen.data.preview} /> : null}
      <Button type="submit" size="xs" colorPalette="copper" mt="2" disabled={!ready}>
        Make it
      </Button>
    </form>
  );
}
