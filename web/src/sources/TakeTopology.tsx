import { Box, Button, Checkbox, Heading, HStack, Table } from "@chakra-ui/react";
import { useState } from "react";

import type { RecordOf, TakenTopology } from "../api/client";
import { Outcome } from "../decks/Panel";
import { FileButton } from "../parts/FileButton";
import { ChoiceLine, Quiet, TakeButton, Taking, TextLine, Told } from "../parts/controls";
import { formOf, useTaken } from "../parts/useTaken";

/** What becomes of a network, as people say it. */
const BECOMES: Record<TakenTopology["networks"][number]["becomes"], string> = {
  new: "new here",
  changed: "changed",
  same: "as before",
  vanished: "vanished, and used here",
  gone: "vanished: goes here too",
  back: "back again",
  offered: "not taken",
  left: "can’t be taken",
};

/** A topology that is read: what would become of each network, who would move, and taking it. */
export function TakeTopology({ source, close }: { source: RecordOf<"source"> | null; close: () => void }) {
  const [name, setName] = useState("");
  const [address, setAddress] = useState(source?.address ?? "");
  const [takes, setTakes] = useState("all");
  const [file, setFile] = useState<File | null>(null);
  const [fetched, setFetched] = useState(source?.address ? 1 : 0);
  const [picked, setPicked] = useState<ReadonlySet<string> | null>(null);
  const { asked, can, take } = useTaken<TakenTopology>(
    "topology",
    [source?.id, name, takes, file, fetched, picked && [...picked]],
    (source !== null || name.trim() !== "") && (file !== null || fetched > 0),
    (parts) => {
      const said = {
        source: source?.id ?? "",
        name,
        address,
        takes,
        picked: picked ? JSON.stringify([...picked]) : "",
      };
      return formOf({ ...said, ...parts }, file);
    },
    close,
  );
  const found = asked.data;
  const networks = found?.networks ?? [];
  const choosable = networks.filter((n) => n.becomes === "new" || n.becomes === "offered").map((n) => n.network);
  const pick = (network: string, on: boolean): void => {
    const next = new Set(picked ?? networks.filter((n) => n.becomes === "new").map((n) => n.network));
    if (on) next.add(network);
    else next.delete(network);
    setPicked(next);
  };
  return (
    <Box
      as="section"
      aria-label={source ? `Read ${source.name}` : "Another source"}
      className="ledger-take"
      mb="3"
      onKeyDown={(event) => {
        if (event.key === "Escape") close();
      }}
    >
      <HStack gap="3" wrap="wrap" mb="2">
        <Heading as={source ? "h3" : "h2"} size="sm" fontWeight="600">
          {source ? `Read ${source.name}` : "Read another source"}
        </Heading>
        <Button size="xs" variant="plain" ml="auto" onClick={close}>
          Close
        </Button>
      </HStack>
      {!source && (
        <Box maxW="620px">
          <TextLine label="Name" value={name} put={setName} hint="harbour office" plain />
          <TextLine
            label="Address"
            value={address}
            put={setAddress}
            hint="https://…/restconf/data/ietf-network:networks; none for files alone"
          />
          <ChoiceLine
            label="Takes"
            value={takes}
            put={setTakes}
            options={[
              ["all", "all networks that it defines, now and later"],
              ["chosen", "those alone that somebody picks"],
            ]}
          />
        </Box>
      )}
      <HStack gap="3" wrap="wrap">
        <Button
          size="xs"
          variant="outline"
          disabled={!address.trim() || (!source && !name.trim())}
          title={address.trim() ? undefined : "It has no address"}
          onClick={() => {
            setFile(null);
            setPicked(null);
            setFetched(fetched + 1);
          }}
        >
          Fetch it
        </Button>
        <FileButton
          label="Topology"
          accept=".json"
          take={(chosen) => {
            setFile(chosen);
            setPicked(null);
            setFetched(0);
          }}
          size="xs"
          variant="outline"
          disabled={!source && !name.trim()}
        >
          {file ? "Another file" : "Choose a file"}
        </FileButton>
        <Quiet>
          {asked.isFetching
            ? "Reading…"
            : (file?.name ?? (fetched ? address : "A topology of RFC 8345 with RFC 8944, as JSON"))}
        </Quiet>
      </HStack>
      {asked.error && <Told tone="bad">{asked.error.message}</Told>}
      {found && !asked.error && (
        <>
          <Box maxH="320px" overflowY="auto" my="2">
            <Table.Root size="sm" variant="line" aria-label="What becomes of each network">
              <Table.Header>
                <Table.Row>
                  <Table.ColumnHeader>Network</Table.ColumnHeader>
                  <Table.ColumnHeader>Becomes</Table.ColumnHeader>
                  <Table.ColumnHeader>Tag, or why</Table.ColumnHeader>
                </Table.Row>
              </Table.Header>
              <Table.Body>
                {networks.map((one) => (
                  <Table.Row key={one.network} className={one.becomes === "same" ? "quiet" : undefined}>
                    <Table.Cell overflowWrap="anywhere">
                      {choosable.includes(one.network) ? (
                        <Checkbox.Root
                          size="sm"
                          colorPalette="copper"
                          checked={one.becomes === "new"}
                          onCheckedChange={({ checked }) => pick(one.network, checked === true)}
                        >
                          <Checkbox.HiddenInput />
                          <Checkbox.Control />
                          <Checkbox.Label>{one.name}</Checkbox.Label>
                        </Checkbox.Root>
                      ) : (
                        one.name
                      )}
                    </Table.Cell>
                    <Table.Cell whiteSpace="nowrap">
                      <b className={one.becomes === "vanished" ? "ledger-odd" : undefined}>{BECOMES[one.becomes]}</b>
                    </Table.Cell>
                    <Table.Cell overflowWrap="anywhere">{one.says}</Table.Cell>
                  </Table.Row>
                ))}
              </Table.Body>
            </Table.Root>
          </Box>
          {found.more > 0 && <Quiet>and {found.more} more networks</Quiet>}
          {found.told.length > 0 && <Told tone="quiet">{found.told.join("\n")}</Told>}
          {found.preview ? (
            <Outcome result={found.preview} />
          ) : (
            <Quiet>{networks.length ? "The plan has all of it already." : "It defines no networks."}</Quiet>
          )}
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
