import { Box, Button, Heading, HStack, NativeSelect, Text } from "@chakra-ui/react";
import { useState } from "react";

import type { TakenSheet } from "../api/client";
import { Outcome } from "../decks/Panel";
import { FileButton } from "../parts/FileButton";
import { Quiet, TakeButton, Taking, Told } from "../parts/controls";
import { formOf, useTaken } from "../parts/useTaken";

const SORTS = [
  ["segments", "Segments", "one on a row: name, VID, subnets, gateways …"],
  ["guests", "Guests", "one adapter on a row: host, guest, port group, addresses …"],
  ["ports", "Fabric ports", "one on a row: switch, port, mode, VIDs …"],
  ["cables", "Cables", "one on a row: device and port at either end"],
] as const;

/** A sheet from elsewhere: which of its columns is which, what can’t be used, what taking it would change. */
export function TakeSheet({ close }: { close: () => void }) {
  const [of, setOf] = useState<string>("segments");
  const [file, setFile] = useState<File | null>(null);
  const [said, setSaid] = useState<Record<string, string> | null>(null);
  const { asked, can, take } = useTaken<TakenSheet>(
    "sheets",
    [of, file?.name, file?.lastModified, file?.size, said],
    file !== null,
    (parts) => formOf({ of, columns: said ? JSON.stringify(said) : "", ...parts }, file),
    close,
  );
  const found = file ? asked.data : undefined;
  const put = (name: string, title: string): void =>
    // What was said since the last answer counts before what that says.
    setSaid((now) => ({
      ...Object.fromEntries((found?.columns ?? []).map((c) => [c.name, c.title])),
      ...now,
      [name]: title,
    }));
  return (
    <Box
      as="section"
      aria-label="Take a sheet"
      className="ledger-take"
      onKeyDown={(event) => {
        if (event.key === "Escape") close();
        if (event.key === "Enter" && can && !(event.target as HTMLElement).closest("button, select")) take();
      }}
    >
      <HStack gap="3" wrap="wrap">
        <Heading as="h2" size="sm" fontWeight="600">
          Take a sheet of
        </Heading>
        <NativeSelect.Root size="xs" width="130px">
          <NativeSelect.Field
            aria-label="What the sheet lists"
            value={of}
            onChange={(event) => {
              setOf(event.target.value);
              setSaid(null);
            }}
          >
            {SORTS.map(([value, name]) => (
              <option key={value} value={value}>
                {name}
              </option>
            ))}
          </NativeSelect.Field>
          <NativeSelect.Indicator />
        </NativeSelect.Root>
        <FileButton
          label="Sheet"
          accept=".csv,.tsv,.txt,.xlsx"
          take={(chosen) => {
            setFile(chosen);
            setSaid(null);
          }}
          size="xs"
          variant="outline"
          autoFocus
        >
          {file ? "Another file" : "Choose a file"}
        </FileButton>
        <Quiet>
          {file
            ? `${file.name}${found ? `, ${found.rows} ${found.rows === 1 ? "row" : "rows"}` : ""}`
            : `CSV or XLSX, ${SORTS.find(([value]) => value === of)![2]}`}
        </Quiet>
        <Button size="xs" variant="plain" ml="auto" onClick={close}>
          Close
        </Button>
      </HStack>
      {asked.error && file && <Told tone="bad">{asked.error.message}</Told>}
      {found && !asked.error && (
        <>
          <HStack as="ul" aria-label="Which column is which" gap="2" rowGap="1" wrap="wrap" listStyleType="none" my="2">
            {found.columns.map((column) => (
              <HStack as="li" key={column.name} gap="1">
                <Text as="label" fontSize="12px" {...{ htmlFor: `column-${column.name}` }}>
                  {columnName(column.name)}
                  {column.needed && "*"}
                </Text>
                <NativeSelect.Root size="xs" width="124px">
                  <NativeSelect.Field
                    id={`column-${column.name}`}
                    value={said?.[column.name] ?? column.title}
                    onChange={(event) => put(column.name, event.target.value)}
                  >
                    <option value="">no column</option>
                    {found.titles.map((title) => (
                      <option key={title} value={title}>
                        {title}
                      </option>
                    ))}
                  </NativeSelect.Field>
                  <NativeSelect.Indicator />
                </NativeSelect.Root>
              </HStack>
            ))}
          </HStack>
          {found.problems.length > 0 ? (
            <Told tone="bad">{[...found.problems, ...(found.more ? [`and ${found.more} more`] : [])].join("\n")}</Told>
          ) : (
            <>
              <Quiet>{found.message}</Quiet>
              {found.preview && <Outcome result={found.preview} />}
            </>
          )}
          <Taking keys="Empty cells leave what is there; what the sheet doesn’t name stays. Esc leaves all as it is">
            <TakeButton disabled={!can} onClick={take}>
              Take it
            </TakeButton>
          </Taking>
        </>
      )}
    </Box>
  );
}

const columnName = (name: string): string =>
  name.replaceAll("_", " ").replace(/^(vid|vni|mtu|mac)$/, (short) => short.toUpperCase());
