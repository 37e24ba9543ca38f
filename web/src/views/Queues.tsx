import { Box, Button, Heading, HStack, Stack, Table, Text } from "@chakra-ui/react";
import { useQuery } from "@tanstack/react-query";
import { CircuitBoard } from "lucide-react";
import { useState } from "react";
import { Link, useSearchParams } from "react-router";

import { api, unwrap, type QueuePlan } from "../api/client";
import { usePlan } from "../api/plan";
import { GestureForm } from "../decks/Gestures";
import { speed } from "../model/records";
import { LinkButton, Quiet, TextLine } from "../parts/controls";
import { CoreGrid } from "../queues/CoreGrid";
import { rangeText } from "../queues/ranges";

const SHOWN = 200;

/** Which processor cores serve which NIC: host by host, as it is and as it would be laid out. */
export function Queues() {
  const { id, base, at, snapshot } = usePlan();
  const [params, setParams] = useSearchParams();
  const [text, setText] = useState("");
  const [every, setEvery] = useState(false);
  const asked = useQuery({
    queryKey: ["queues", id, at, snapshot.revision],
    queryFn: async () => unwrap(await api.GET("/api/plans/{plan_id}/queues", { params: { path: { plan_id: id } } })),
    placeholderData: (before) => before,
  });
  const hosts = asked.data ?? [];
  const found = hosts.filter((h) => h.name.toLowerCase().includes(text.trim().toLowerCase()));
  const chosen = hosts.find((h) => h.host === params.get("host")) ?? found[0];
  const differ = found.filter((h) => h.changes > 0).map((h) => h.host);
  const past = at === undefined ? "" : `at=${at}`;
  const choose = (host: string): void =>
    setParams(
      (now) => {
        const next = new URLSearchParams(now);
        next.set("host", host);
        return next;
      },
      { replace: true },
    );
  if (asked.error) return <p role="alert">{asked.error.message}</p>;
  if (!asked.data) return <Quiet>Counting cores…</Quiet>;
  if (!hosts.length)
    return (
      <div className="empty-state">
        <CircuitBoard size={28} aria-hidden />
        <h2>No processors are known</h2>
        <p>
          A host’s cores are read with its state (lscpu.json, numa.txt, ethtool-NIC.json), or said on Decks: open a
          host, <em>Cores</em>. Then you see which of them should serve which NIC.
        </p>
        <Button size="sm" variant="outline" asChild>
          <Link to={`${base}/decks`}>Open Decks</Link>
        </Button>
      </div>
    );
  return (
    <HStack align="stretch" gap="0" height="100%" fontSize="13px">
      <Stack
        width="250px"
        flex="0 0 250px"
        gap="2"
        p="3"
        borderRightWidth="1px"
        overflowY="auto"
        as="section"
        aria-label="Hosts"
      >
        <TextLine label="Hosts with" wide="70px" value={text} put={setText} hint="part of a name" plain />
        <Quiet>
          {found.length === 1 ? "1 host" : `${found.length} hosts`}
          {differ.length > 0 && `, ${differ.length} not as laid out`}
        </Quiet>
        <Stack as="ul" gap="0.5" listStyleType="none" aria-label="Hosts whose cores are known">
          {found.slice(0, SHOWN).map((host) => (
            <li key={host.host}>
              <Button
                size="xs"
                variant={host === chosen ? "outline" : "ghost"}
                aria-pressed={host === chosen}
                width="100%"
                justifyContent="space-between"
                fontWeight={host === chosen ? "600" : "400"}
                onClick={() => choose(host.host)}
              >
                <Text truncate>{host.name}</Text>
                <Text color="fg.muted" fontWeight="400">
                  {host.changes ? `${host.changes} to set` : host.served ? "as laid out" : "none served"}
                </Text>
              </Button>
            </li>
          ))}
        </Stack>
        {found.length > SHOWN && <Quiet>and {found.length - SHOWN} more: type part of a name</Quiet>}
        <Button
          size="xs"
          variant="outline"
          disabled={differ.length === 0 || at !== undefined}
          aria-expanded={every}
          onClick={() => setEvery(!every)}
        >
          Lay out {differ.length === 1 ? "1 host" : `${differ.length} hosts`}
        </Button>
        {every && differ.length > 0 && (
          <GestureForm
            name="queues"
            args={{ hosts: differ }}
            ready
            action="Set them so"
            done={() => setEvery(false)}
            tells
          >
            <Quiet>Each host’s NICs get the queues and processors that its own cores and teams make out.</Quiet>
          </GestureForm>
        )}
        <LinkButton asChild>
          <a href={`/api/plans/${id}/queue-scripts?${past}`} download>
            Settings of all hosts (ZIP)
          </a>
        </LinkButton>
      </Stack>
      {chosen && <OneHost key={chosen.host} host={chosen.host} past={past} />}
    </HStack>
  );
}

function OneHost({ host, past }: { host: string; past: string }) {
  const { id, at, base, snapshot } = usePlan();
  const asked = useQuery({
    queryKey: ["queue-plan", id, at, snapshot.revision, host],
    queryFn: async () =>
      unwrap(await api.GET("/api/plans/{plan_id}/queue-plan", { params: { path: { plan_id: id }, query: { host } } })),
    placeholderData: (before) => before,
  });
  const plan = asked.data;
  if (asked.error) return <p role="alert">{asked.error.message}</p>;
  if (!plan) return null;
  return (
    <Box flex="1" minW="0" overflowY="auto" px="5" py="3.5" as="section" aria-label={plan.name}>
      <HStack gap="4" mb="2" wrap="wrap">
        <Heading as="h2" size="md" fontWeight="600">
          {plan.name}
        </Heading>
        <HStack gap="3" ml="auto">
          <LinkButton asChild>
            <Link to={`${base}/decks?at=${encodeURIComponent(host)}`}>On Decks</Link>
          </LinkButton>
          <LinkButton asChild>
            <a
              href={`/api/plans/${id}/queue-scripts?host=${encodeURIComponent(host)}${past && `&${past}`}`}
              download
              title="What the plan says, for Linux: ethtool channels and smp_affinity"
            >
              Settings as a script
            </a>
          </LinkButton>
        </HStack>
      </HStack>
      <CoreGrid plan={plan} />
      <Nics plan={plan} />
      {at === undefined && plan.changes > 0 && (
        <Box maxW="560px" mt="3">
          <GestureForm
            name="queues"
            args={{ hosts: [host] }}
            ready
            action={`Set ${plan.name} so`}
            done={() => {}}
            tells
          >
            {null}
          </GestureForm>
        </Box>
      )}
    </Box>
  );
}

/** A NIC's team with its mode, or that it is alone or in none. */
function teamOf(plan: QueuePlan, nic: QueuePlan["nics"][number]): string {
  if (!nic.team) return "none";
  const several = plan.nics.filter((other) => other.team === nic.team && other.mode === nic.mode).length > 1;
  return `${nic.team}, ${several ? (nic.mode === "lacp" ? "LACP" : nic.mode) : "alone"}`;
}

function Nics({ plan }: { plan: QueuePlan }) {
  return (
    <Table.Root size="sm" variant="line" aria-label={`NICs of ${plan.name}`} mt="4">
      <Table.Header>
        <Table.Row>
          {["NIC", "Team", "Does", "Node", "Queues", "Served now", "As laid out"].map((head) => (
            <Table.ColumnHeader key={head}>{head}</Table.ColumnHeader>
          ))}
        </Table.Row>
      </Table.Header>
      <Table.Body>
        {plan.nics.map((nic) => (
          <Table.Row key={nic.id}>
            <Table.Cell className="mono">{nic.name}</Table.Cell>
            <Table.Cell>{teamOf(plan, nic)}</Table.Cell>
            <Table.Cell>{nic.speed ? speed(nic.speed) : "not known"}</Table.Cell>
            <Table.Cell>{nic.numa ?? "not known"}</Table.Cell>
            <Table.Cell>
              {nic.queues ?? "as they come"}
              {nic.most !== null && ` of ${nic.most}`}
            </Table.Cell>
            <Table.Cell className="mono">{rangeText(nic.now) || "as it comes"}</Table.Cell>
            <Table.Cell>
              {nic.laid.length ? (
                <>
                  <span className="mono">{rangeText(nic.laid)}</span>
                  {nic.crowded && ", shared: there are fewer cores than NICs"}
                </>
              ) : (
                <Text color="fg.muted">none: {nic.why}</Text>
              )}
            </Table.Cell>
          </Table.Row>
        ))}
      </Table.Body>
    </Table.Root>
  );
}
