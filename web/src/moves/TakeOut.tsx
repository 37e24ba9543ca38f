import { Box, Heading, List, Table, Text } from "@chakra-ui/react";
import { useQuery } from "@tanstack/react-query";
import { useState } from "react";

import { api, unwrap } from "../api/client";
import { usePlan } from "../api/plan";
import { GestureForm } from "../decks/Gestures";
import { compareNames } from "../model/records";
import { ChoiceLine, LinkButton, Quiet, Told } from "../parts/controls";
import { fareOf } from "./fares";

/** A host taken out: where everybody on it goes, who is left, and the one edit that makes it so. */
export function TakeOut({
  host,
  choose,
  pick,
}: {
  host: string;
  choose: (host: string) => void;
  /** Show how a guest fares on a host. */
  pick: (guest: string, host: string) => void;
}) {
  const { id, at, book, snapshot } = usePlan();
  const [how, setHow] = useState<"kept" | "failed">("kept");
  const asked = useQuery({
    queryKey: ["clearing", id, at, snapshot.revision, host, how],
    queryFn: async () =>
      unwrap(
        await api.GET("/api/plans/{plan_id}/clearing", { params: { path: { plan_id: id }, query: { host, how } } }),
      ),
    enabled: host !== "",
  });
  const hosts = [...book.records.host].sort((a, b) => compareNames(a.name, b.name));
  const named = (kind: "guest" | "host", id: string): string => book.get(kind, id)?.name ?? id;
  const found = asked.data;
  return (
    <Box as="section" aria-label="Take a host out" className="moves-out">
      <Heading as="h2" size="sm" mb="2">
        Take a host out
      </Heading>
      <ChoiceLine
        label="Host"
        value={host}
        put={choose}
        options={[["", "choose one"], ...hosts.map((h): [string, string] => [h.id, h.name])]}
      />
      <ChoiceLine
        label="Because"
        value={how}
        put={(value) => setHow(value as typeof how)}
        options={[
          ["kept", "maintenance: all keep running"],
          ["failed", "it failed: guests start elsewhere"],
        ]}
      />
      {!host && (
        <Quiet>Each guest goes where it fares best; of several hosts, to the one with the fewest guests.</Quiet>
      )}
      {asked.error && <Told tone="bad">{asked.error.message}</Told>}
      {found && !found.places.length && !found.left.length && <Quiet>Nobody is on it.</Quiet>}
      {found && found.places.length > 0 && (
        <Table.Root size="sm" fontSize="12.5px" my="2" aria-label="Where everybody goes">
          <Table.Header>
            <Table.Row>
              <Table.ColumnHeader>Guest</Table.ColumnHeader>
              <Table.ColumnHeader>Goes to</Table.ColumnHeader>
              <Table.ColumnHeader>Fares</Table.ColumnHeader>
            </Table.Row>
          </Table.Header>
          <Table.Body>
            {found.places.map((place) => (
              <Table.Row key={place.guest}>
                <Table.Cell overflowWrap="anywhere">{named("guest", place.guest)}</Table.Cell>
                <Table.Cell overflowWrap="anywhere">{named("host", place.host)}</Table.Cell>
                <Table.Cell>
                  {place.fares === "r" ? (
                    "runs there"
                  ) : (
                    <LinkButton onClick={() => pick(place.guest, place.host)}>{fareOf(place.fares).word}</LinkButton>
                  )}
                </Table.Cell>
              </Table.Row>
            ))}
          </Table.Body>
        </Table.Root>
      )}
      {found && found.left.length > 0 && (
        <>
          <Text fontWeight="600" mt="2">
            {found.left.length === 1 ? "One guest is" : `${found.left.length} guests are`} left without a place
          </Text>
          <List.Root aria-label="Left without a place" gap="1" my="1" listStyle="none">
            {found.left.map((left) => (
              <List.Item key={left.guest}>
                {left.nearest ? (
                  <LinkButton onClick={() => pick(left.guest, left.nearest)}>{named("guest", left.guest)}</LinkButton>
                ) : (
                  named("guest", left.guest)
                )}
                <Quiet>{left.why.join(" ")}</Quiet>
              </List.Item>
            ))}
          </List.Root>
        </>
      )}
      {found && found.places.length > 0 && at === undefined && (
        <GestureForm
          name="clear-host"
          args={{ host, failed: how === "failed" }}
          ready
          action={`Move ${found.places.length === 1 ? "this guest" : `these ${found.places.length}`}`}
          done={() => undefined}
        >
          <Text fontWeight="600" mt="2">
            Once all have moved
          </Text>
        </GestureForm>
      )}
    </Box>
  );
}
