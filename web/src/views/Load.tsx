import { Box, Button, Heading, HStack, Stack, Table, Text } from "@chakra-ui/react";
import { Gauge } from "lucide-react";
import { Fragment, useCallback, useDeferredValue, useMemo, useState } from "react";
import { Link, useSearchParams } from "react-router";

import type { Load as LoadOf } from "../api/client";
import { usePlan, usePresence } from "../api/plan";
import { drop } from "../decks/making";
import { FlowForm } from "../load/FlowForm";
import { mbits, percent, toneOf, type Direction } from "../load/said";
import { TakeReadings } from "../load/TakeReadings";
import { useLoad } from "../load/useLoad";
import { compareNames, speed } from "../model/records";
import { ChoiceLine, LinkButton, Quiet, TextLine, Told } from "../parts/controls";
import { matching, SearchBox } from "../parts/SearchBox";

/** So many cables are shown at first. */
const FIRST = 12;
/** What is open beside a flow's own form. */
const NEW = " new";
const READINGS = " readings";

/** What fails, in a few words. */
const WHAT: Readonly<Record<string, string>> = {
  nic: "a NIC, its cable or the port behind",
  card: "a card with all its NICs",
  cable: "a cable between switches",
  lag: "all cables of a LAG",
  fabric_switch: "a switch with all that is plugged in",
};

/** How full cables get by what flows send, and what each flow gets. */
export function Load() {
  const { at, base, book } = usePlan();
  const [params, setParams] = useSearchParams();
  const [open, setOpen] = useState<string | null>(null);
  const failure = params.get("without") ?? "";
  const burst = params.get("burst") ?? "";
  const [cables, setCables] = useState("");
  const [named, setNamed] = useState("");
  const asked = useLoad({ failure, burst, cables: useDeferredValue(cables), flows: useDeferredValue(named) });
  const play = (name: "without" | "burst", value: string): void =>
    setParams(
      (now) => {
        const next = new URLSearchParams(now);
        if (value) next.set(name, value);
        else next.delete(name);
        return next;
      },
      { replace: true },
    );
  const load = asked.data;
  const failures = useMemo(
    () =>
      (load?.failures ?? []).map((f) => ({
        value: f.key,
        label: f.name,
        detail: WHAT[f.key.split("|")[0]!] ?? "",
        text: f.name.toLowerCase(),
      })),
    [load],
  );
  const find = useCallback((typed: string) => matching(failures, typed), [failures]);
  if (asked.error && !failure && !burst) return <p role="alert">{asked.error.message}</p>;
  if (!load && !asked.error) return <Quiet>Following what is sent…</Quiet>;
  const bursts = book.records.flow.filter((flow) => flow.burst).sort((a, b) => compareNames(a.name, b.name));
  const doors = at === undefined && (
    <HStack gap="2">
      {(
        [
          [NEW, "Another flow"],
          [READINGS, "Readings of a host"],
        ] as const
      ).map(([what, label]) => (
        <Button
          key={what}
          size="xs"
          variant="outline"
          aria-expanded={open === what}
          onClick={() => setOpen(open === what ? null : what)}
        >
          {label}
        </Button>
      ))}
    </HStack>
  );
  const form = (open === NEW || open === READINGS) && (
    <Box maxW="440px" borderWidth="1px" p="3" mb="3" bg="sheet">
      {open === NEW ? (
        <FlowForm flow={null} done={() => setOpen(null)} close={() => setOpen(null)} />
      ) : (
        <TakeReadings close={() => setOpen(null)} />
      )}
    </Box>
  );
  if (!book.records.flow.length)
    return (
      <div className="empty-state">
        <Gauge size={28} aria-hidden />
        <h2>Nobody said what is sent</h2>
        <p>
          Say what segments, services or guests send, in Mbit/s, or take what was measured on a host. Then you see how
          full each cable gets, which failure fills it, and what a migration takes from others.
        </p>
        <Stack gap="3" maxW="440px" textAlign="start">
          {doors}
          {form}
        </Stack>
      </div>
    );
  return (
    <Box height="100%" overflowY="auto" px="5" py="3.5" fontSize="13px">
      <HStack gap="4" mb="3" wrap="wrap" align="center">
        <SearchBox
          label="Once"
          value={failure}
          said={failures.find((f) => f.value === failure)?.label ?? ""}
          find={find}
          put={(value) => play("without", value)}
          placeholder="nothing has failed"
          empty="Nothing goes over such a thing."
          width="270px"
          size="xs"
        />
        {bursts.length > 0 && (
          <Box width="230px" mb="-1.5">
            <ChoiceLine
              label="While"
              wide="36px"
              value={burst}
              put={(value) => play("burst", value)}
              options={[["", "no burst lasts"], ...bursts.map((f) => [f.id, `${f.name} lasts`] as const)]}
            />
          </Box>
        )}
        <HStack gap="3" ml="auto">
          <LinkButton asChild>
            <Link to={`${base}/decks?load=1`}>On Decks</Link>
          </LinkButton>
          {doors}
        </HStack>
      </HStack>
      {form}
      {asked.error && <Told tone="bad">{asked.error.message}</Told>}
      {load?.bursting && <Quiet>The burst that takes most from others: {load.bursting}.</Quiet>}
      {load && (
        <>
          <Cables
            load={load}
            played={Boolean(failure || burst)}
            play={(key) => play("without", key)}
            text={cables}
            setText={setCables}
          />
          <Flows load={load} open={open} setOpen={setOpen} text={named} setText={setNamed} />
        </>
      )}
    </Box>
  );
}

/** Every direction of each cable, the fullest first. */
function Cables({
  load,
  played,
  play,
  text,
  setText,
}: {
  load: LoadOf;
  played: boolean;
  play: (failure: string) => void;
  text: string;
  setText: (text: string) => void;
}) {
  const { base } = usePlan();
  const [every, setEvery] = useState(false);
  const { directions, cables, over, near } = load;
  const shown = directions.slice(0, every ? directions.length : FIRST);
  const heads = ["Cable, from → to", "Carries", "Asked for", "Full"];
  if (!played) heads.push("At worst", "In a burst", "After a failure");
  return (
    <section aria-label="Cables">
      <HStack gap="3" mb="1" wrap="wrap">
        <Heading as="h2" size="sm" fontWeight="600">
          {over === 1
            ? "1 cable is sent more than it carries"
            : over
              ? `${over} cables are sent more than they carry`
              : "Every cable carries what it is sent"}
        </Heading>
        {near > 0 && <Quiet>{near} nearly full</Quiet>}
        <Box width="230px" ml="auto" mb="-1.5">
          <TextLine label="Cables of" wide="62px" value={text} put={setText} hint="part of a name" plain />
        </Box>
      </HStack>
      <Table.Root size="sm" variant="line" aria-label="Cables by how full they are" fontSize="12.5px">
        <Table.Header>
          <Table.Row>
            {heads.map((head, n) => (
              <Table.ColumnHeader key={head} px="2" textAlign={n === 1 || n === 2 ? "end" : undefined}>
                {head}
              </Table.ColumnHeader>
            ))}
          </Table.Row>
        </Table.Header>
        <Table.Body>
          {shown.map((d) => (
            <Table.Row key={`${d.port} ${d.out}`}>
              <Table.Cell px="2" py="1.5" overflowWrap="anywhere">
                <LinkButton asChild whiteSpace="normal" textAlign="start">
                  <Link to={`${base}/decks?at=${encodeURIComponent(d.port)}&load=1`}>{d.name}</Link>
                </LinkButton>
              </Table.Cell>
              <Table.Cell px="2" py="1.5" textAlign="end" whiteSpace="nowrap">
                {d.speed ? speed(d.speed) : "not said"}
              </Table.Cell>
              <Table.Cell px="2" py="1.5" textAlign="end" whiteSpace="nowrap">
                {mbits(d.asked)}
              </Table.Cell>
              <Table.Cell px="2" py="1.5" width="150px">
                <Bar direction={d} played={played} />
              </Table.Cell>
              {!played && (
                <>
                  <Share value={d.most} direction={d} />
                  <Share value={d.burst} direction={d} />
                  <Table.Cell px="2" py="1.5" width="210px">
                    {d.failure ? (
                      <>
                        <Text as="span" color={d.speed && d.after > d.speed ? "var(--v-exposed)" : undefined}>
                          {percent(d.after, d.speed) || mbits(d.after)}
                        </Text>
                        {", "}
                        <LinkButton
                          onClick={() => play(d.failure)}
                          aria-label={`See all once ${d.fails} has failed`}
                          title={`See all cables once ${d.fails} has failed`}
                          whiteSpace="normal"
                          textAlign="start"
                        >
                          {d.fails}
                        </LinkButton>
                      </>
                    ) : (
                      <Text color="fg.muted">no fuller</Text>
                    )}
                  </Table.Cell>
                </>
              )}
            </Table.Row>
          ))}
        </Table.Body>
      </Table.Root>
      {directions.length > shown.length && (
        <LinkButton mt="1" onClick={() => setEvery(true)}>
          Show {cables > directions.length ? `${directions.length} of ${cables}` : `all ${cables}`}
        </LinkButton>
      )}
      {every && cables > directions.length && <Quiet>and {cables - directions.length} more: type part of a name</Quiet>}
      {!cables && <Quiet>Nothing that is sent goes over such a cable.</Quiet>}
    </section>
  );
}

function Share({ value, direction }: { value: number; direction: Direction }) {
  const worse = direction.speed !== null && value > direction.speed;
  const same = Math.abs(value - direction.asked) < 0.5;
  return (
    <Table.Cell px="2" py="1.5" whiteSpace="nowrap" color={worse ? "var(--v-exposed)" : same ? "fg.muted" : undefined}>
      {percent(value, direction.speed) || mbits(value)}
    </Table.Cell>
  );
}

/** How full a direction is: what is asked for, and a mark where the worst of all is. */
function Bar({ direction, played }: { direction: Direction; played: boolean }) {
  const { speed: carries, asked } = direction;
  if (!carries) return <Text color="fg.muted">nobody says what it carries</Text>;
  const share = (value: number): number => Math.min(1, value / carries) * 100;
  const worst = Math.max(direction.most, direction.after);
  return (
    <HStack gap="2">
      <Box position="relative" flex="1" minW="60px" height="9px" bg="var(--line)" borderRadius="2px">
        <Box height="100%" width={`${share(asked)}%`} bg={toneOf(asked, carries)} borderRadius="2px" />
        {!played && worst > asked && (
          <Box
            position="absolute"
            top="-2px"
            bottom="-2px"
            left={`calc(${share(worst)}% - 1px)`}
            width="2px"
            bg={toneOf(worst, carries)}
          />
        )}
      </Box>
      <Text width="44px" textAlign="end" whiteSpace="nowrap" fontWeight={asked > carries ? "700" : undefined}>
        {percent(asked, carries)}
      </Text>
    </HStack>
  );
}

const WIDTHS: Readonly<Record<string, string>> = {
  Flow: "250px",
  "Sent by": "70px",
  "Asked for": "110px",
  Change: "140px",
};

/** Every flow with what it asks for and gets. */
function Flows({
  load,
  open,
  setOpen,
  text,
  setText,
}: {
  load: LoadOf;
  open: string | null;
  setOpen: (id: string | null) => void;
  text: string;
  setText: (text: string) => void;
}) {
  const { at, book, edit } = usePlan();
  const { busy } = usePresence();
  const heads = ["Flow", "Sent by", "Asked for", "Got where all share fairly"];
  if (at === undefined) heads.push("Change");
  return (
    <Box as="section" aria-label="Flows" mt="6">
      <HStack gap="3" mb="1">
        <Heading as="h2" size="sm" fontWeight="600">
          What is sent
        </Heading>
        <Box width="230px" ml="auto" mb="-1.5">
          <TextLine label="Flows with" wide="62px" value={text} put={setText} hint="part of a name" plain />
        </Box>
      </HStack>
      <Table.Root size="sm" variant="line" aria-label="Flows" fontSize="12.5px" tableLayout="fixed">
        <Table.Header>
          <Table.Row>
            {heads.map((head) => (
              <Table.ColumnHeader key={head} px="2" width={WIDTHS[head]} whiteSpace="nowrap">
                {head}
              </Table.ColumnHeader>
            ))}
          </Table.Row>
        </Table.Header>
        <Table.Body>
          {load.flows.map((one) => {
            const flow = book.get("flow", one.id);
            const short = one.asks - one.gets > 0.5;
            return (
              <Fragment key={one.id}>
                <Table.Row verticalAlign="top">
                  <Table.Cell px="2" py="1.5" overflowWrap="anywhere">
                    <Text fontWeight="600">{one.name}</Text>
                    <Quiet>
                      {[
                        one.burst && "now and then",
                        flow?.limit && `held to ${mbits(flow.limit)} each`,
                        flow?.read && `measured ${flow.read.slice(0, 10)}`,
                      ]
                        .filter(Boolean)
                        .join(", ")}
                    </Quiet>
                  </Table.Cell>
                  <Table.Cell px="2" py="1.5" whiteSpace="nowrap">
                    {one.senders}
                  </Table.Cell>
                  <Table.Cell px="2" py="1.5" whiteSpace="nowrap">
                    {one.burst && !one.asks ? "at rest" : mbits(one.asks)}
                  </Table.Cell>
                  <Table.Cell px="2" py="1.5" overflowWrap="anywhere">
                    {one.asks > 0 && (
                      <Text color={short ? "var(--v-exposed)" : undefined}>
                        {short ? mbits(one.gets) : "all of it"}
                        {short &&
                          one.least &&
                          `: ${one.least.who} gets ${mbits(one.least.gets)} of ${mbits(one.least.asks)}`}
                      </Text>
                    )}
                    {one.unsent.length > 0 && (
                      <Quiet>
                        Not counted: {one.unsent.join("; ")}
                        {one.more > 0 && ` and ${one.more} more`}
                      </Quiet>
                    )}
                  </Table.Cell>
                  {at === undefined && (
                    <Table.Cell px="2" py="1.5" whiteSpace="nowrap">
                      <LinkButton
                        aria-expanded={open === one.id}
                        aria-label={`Change: ${one.name}`}
                        mr="3"
                        onClick={() => setOpen(open === one.id ? null : one.id)}
                      >
                        Change
                      </LinkButton>
                      <LinkButton
                        disabled={busy}
                        aria-label={`Remove: ${one.name}`}
                        onClick={() => void edit(`Take ${one.name} away`, [drop("flow", one.id)])}
                      >
                        Remove
                      </LinkButton>
                    </Table.Cell>
                  )}
                </Table.Row>
                {open === one.id && flow && (
                  <Table.Row>
                    <Table.Cell px="2" colSpan={heads.length}>
                      <Box maxW="440px">
                        <FlowForm key={flow.id} flow={flow} done={() => setOpen(null)} close={() => setOpen(null)} />
                      </Box>
                    </Table.Cell>
                  </Table.Row>
                )}
              </Fragment>
            );
          })}
        </Table.Body>
      </Table.Root>
      {load.sent > load.flows.length && <Quiet>and {load.sent - load.flows.length} more: type part of a name</Quiet>}
    </Box>
  );
}
