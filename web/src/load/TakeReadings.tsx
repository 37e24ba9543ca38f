import { Box, Button, Heading, HStack } from "@chakra-ui/react";
import { useState } from "react";

import type { TakenReadings } from "../api/client";
import { usePlan } from "../api/plan";
import { Outcome } from "../decks/Panel";
import { compareNames } from "../model/records";
import { FileButton } from "../parts/FileButton";
import { ChoiceLine, Quiet, TakeButton, Taking, TextLine, Told } from "../parts/controls";
import { formOf, useTaken } from "../parts/useTaken";
import { mbits } from "./said";

/** Two readings of a host's counters: what its adapters and host ports sent meanwhile, as flows. */
export function TakeReadings({ close }: { close: () => void }) {
  const { book } = usePlan();
  const hosts = [...book.records.host].sort((a, b) => compareNames(a.name, b.name));
  const [host, setHost] = useState(hosts[0]?.id ?? "");
  const [towards, setTowards] = useState("gateway");
  const [seconds, setSeconds] = useState("");
  const [before, setBefore] = useState<File | null>(null);
  const [after, setAfter] = useState<File | null>(null);
  const { asked, can, take } = useTaken<TakenReadings>(
    "readings",
    [host, towards, seconds, before, after],
    Boolean(host && before && after && Number(seconds) > 0),
    (parts) => {
      const made = formOf({ host, towards, seconds, ...parts }, null);
      if (before) made.append("before", before);
      if (after) made.append("after", after);
      return made;
    },
    close,
  );
  const found = asked.data;
  return (
    <Box
      as="section"
      aria-label="Readings"
      onKeyDown={(event) => {
        if (event.key === "Escape") close();
      }}
    >
      <HStack mb="2">
        <Heading as="h2" size="sm" fontWeight="600">
          What was measured
        </Heading>
        <Button size="xs" variant="plain" ml="auto" onClick={close}>
          Close
        </Button>
      </HStack>
      <ChoiceLine label="Host" value={host} put={setHost} options={hosts.map((h) => [h.id, h.name] as const)} />
      <HStack gap="2" mb="1.5" wrap="wrap">
        <FileButton label="Before" accept=".json" take={setBefore} size="xs" variant="outline">
          {before ? before.name : "The first reading"}
        </FileButton>
        <FileButton label="After" accept=".json" take={setAfter} size="xs" variant="outline">
          {after ? after.name : "The second"}
        </FileButton>
      </HStack>
      <TextLine label="Seconds apart" value={seconds} put={setSeconds} hint="60" numeric />
      <ChoiceLine
        label="Sent to"
        value={towards}
        put={setTowards}
        options={[
          ["gateway", "gateways"],
          ["others", "others alike"],
        ]}
      />
      <Quiet>Readings are what ip -statistics -json link prints on the host.</Quiet>
      {asked.error && <Told tone="bad">{asked.error.message}</Told>}
      {found && !asked.error && (
        <>
          {found.nics.length > 0 && (
            <Told tone="quiet">
              {found.nics.map((nic) => `${nic.name}: ${mbits(nic.out)} out, ${mbits(nic.into)} in`).join("; ")}
            </Told>
          )}
          {found.told.length > 0 && <Told tone="quiet">{found.told.join("\n")}</Told>}
          {found.preview ? <Outcome result={found.preview} /> : <Quiet>No flow would be another one.</Quiet>}
          <Taking keys="Esc leaves all as it is">
            <TakeButton disabled={!can} onClick={take}>
              Take it
            </TakeButton>
          </Taking>
        </>
      )}
    </Box>
  );
}
