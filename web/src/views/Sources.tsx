import { Button, Heading, HStack, Stack, Table, Text } from "@chakra-ui/react";
import { Waypoints } from "lucide-react";
import { useState } from "react";
import { Link } from "react-router";

import type { RecordOf } from "../api/client";
import { usePlan } from "../api/plan";
import { MADE_OWN, patch } from "../decks/edits";
import { cellOf, marksOf } from "../ledger/marks";
import { compareNames, segmentTag, type Book } from "../model/records";
import { LinkButton } from "../parts/controls";
import { TakeTopology } from "../sources/TakeTopology";

/** Other systems that define networks: what was read of each, and reading it again. */
export function Sources() {
  const { book, at } = usePlan();
  const [reading, setReading] = useState<string | null>(null);
  const sources = [...book.records.source].sort((a, b) => compareNames(a.name, b.name));
  const now = at !== undefined;
  return (
    <Stack gap="5" px="5" py="3.5" height="100%" overflowY="auto" fontSize="13px">
      <HStack gap="4" wrap="wrap">
        <Text maxW="78ch" color="fg.muted">
          Networks that another system defines are read from its topology and used like any other segment. They are not
          edited here: they change with readings of that system.
        </Text>
        {sources.length > 0 && (
          <Button size="xs" variant="outline" ml="auto" disabled={now} onClick={() => setReading("")}>
            Another source
          </Button>
        )}
      </HStack>
      {sources.length === 0 && reading === null && (
        <div className="empty-state">
          <Waypoints size={28} aria-hidden />
          <h2>No sources yet</h2>
          <p>
            If another system defines networks that your guests use, have its topology read: from a file, or from where
            it is fetched. You see what would change before anything does.
          </p>
          <Button size="sm" variant="outline" disabled={now} onClick={() => setReading("")}>
            Read the first one
          </Button>
        </div>
      )}
      {reading === "" && <TakeTopology source={null} close={() => setReading(null)} />}
      {sources.map((source) => (
        <Source
          key={source.id}
          source={source}
          reading={reading === source.id}
          setReading={(on) => setReading(on ? source.id : null)}
        />
      ))}
    </Stack>
  );
}

const moment = (text: string): string => text.slice(0, 16).replace("T", " ");

function Source({
  source,
  reading,
  setReading,
}: {
  source: RecordOf<"source">;
  reading: boolean;
  setReading: (on: boolean) => void;
}) {
  const { book, base, edit, at } = usePlan();
  const segments = book.of("segment", "source", source.id).toSorted((a, b) => compareNames(a.name, b.name));
  const marks = marksOf(book.records.segment, book.records.reservation);
  const gone = segments.filter((s) => s.vanished).length;
  return (
    <section aria-label={source.name}>
      <HStack gap="3" wrap="wrap" mb="1.5" alignItems="baseline">
        <Heading as="h2" size="sm" fontWeight="600">
          {source.name}
        </Heading>
        <Text color="fg.muted">
          {segments.length === 1 ? "1 network" : `${segments.length} networks`}
          {gone > 0 && <b className="ledger-odd">, {gone} vanished</b>}
          {source.read && `, read ${moment(source.read)} UTC`}
        </Text>
        <HStack gap="3" ml="auto">
          <Button
            size="xs"
            variant="outline"
            disabled={at !== undefined}
            aria-expanded={reading}
            onClick={() => setReading(!reading)}
          >
            Read it again
          </Button>
          <LinkButton asChild>
            <Link to={`${base}/decks?at=${encodeURIComponent(source.id)}`}>Change</Link>
          </LinkButton>
        </HStack>
      </HStack>
      {source.address && (
        <Text className="mono" color="fg.muted" fontSize="11.5px" mb="1.5" overflowWrap="anywhere">
          {source.address}
        </Text>
      )}
      {reading && <TakeTopology source={source} close={() => setReading(false)} />}
      {segments.length === 0 ? (
        <Text color="fg.muted">None of its networks is taken.</Text>
      ) : (
        <Table.Root size="sm" variant="line" aria-label={`Networks of ${source.name}`} tableLayout="fixed">
          <Table.Header>
            <Table.Row>
              <Table.ColumnHeader width="24%">Network</Table.ColumnHeader>
              <Table.ColumnHeader width="9%">Tag</Table.ColumnHeader>
              <Table.ColumnHeader width="19%">Subnets</Table.ColumnHeader>
              <Table.ColumnHeader width="16%">Used here by</Table.ColumnHeader>
              <Table.ColumnHeader width="20%">Overlaps</Table.ColumnHeader>
              <Table.ColumnHeader width="12%">To do</Table.ColumnHeader>
            </Table.Row>
          </Table.Header>
          <Table.Body>
            {segments.map((segment) => (
              <Table.Row key={segment.id}>
                <Table.Cell overflowWrap="anywhere">
                  {segment.name}
                  {segment.vanished && <b className="ledger-odd"> vanished</b>}
                  {segment.origin !== segment.name && (
                    <Text className="mono" color="fg.muted" fontSize="11px">
                      {segment.origin}
                    </Text>
                  )}
                </Table.Cell>
                <Table.Cell className="mono">{segmentTag(segment)}</Table.Cell>
                <Table.Cell className="mono" overflowWrap="anywhere">
                  {(segment.subnets ?? []).join(", ")}
                </Table.Cell>
                <Table.Cell>{usersOf(book, segment.id)}</Table.Cell>
                <Table.Cell overflowWrap="anywhere">{marks.get(cellOf(segment.id, "subnets"))?.text ?? ""}</Table.Cell>
                <Table.Cell>
                  <LinkButton
                    disabled={at !== undefined}
                    aria-label={`Make ${segment.name} the plan’s own`}
                    onClick={() =>
                      void edit(`Make ${segment.name} the plan’s own`, [patch("segment", segment.id, MADE_OWN)])
                    }
                  >
                    Make it ours
                  </LinkButton>
                </Table.Cell>
              </Table.Row>
            ))}
          </Table.Body>
        </Table.Root>
      )}
    </section>
  );
}

/** Who belongs on a segment, counted. */
function usersOf(book: Book, segment: string): string {
  const counts = [
    [book.of("adapter", "belongs", segment).length, "adapter"],
    [book.of("guest_tag", "belongs", segment).length, "guest tag"],
    [book.of("host_port", "belongs", segment).length, "host port"],
    [book.of("station_port", "belongs", segment).length, "station"],
  ] as const;
  const said = counts.flatMap(([n, word]) => (n ? [`${n} ${word}${n > 1 ? "s" : ""}`] : []));
  return said.join(", ") || "nobody";
}
