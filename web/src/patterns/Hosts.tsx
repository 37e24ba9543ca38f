import { Button, Heading, HStack, Table } from "@chakra-ui/react";
import { useState } from "react";

import type { Off, Stamped } from "../api/client";
import { usePlan, usePresence } from "../api/plan";
import { Quiet } from "../parts/controls";
import { compareNames } from "../model/records";

/** So many hosts are listed at first: those that are off their pattern, or a few of them where none is. */
const [LISTED, FEW] = [100, 4];

/** The hosts on which a pattern is stamped, each with every difference and what can be done about it. */
export function Hosts({ stamps, waiting }: { stamps: Stamped[]; waiting: boolean }) {
  const { book, gesture } = usePlan();
  const { busy } = usePresence();
  const [all, setAll] = useState(false);
  const off = stamps.filter((s) => s.count);
  const name = (host: string): string => book.get("host", host)?.name ?? host;
  const ordered = [...stamps].sort(
    (a, b) => Number(!a.count) - Number(!b.count) || compareNames(name(a.host), name(b.host)),
  );
  const shown = all ? ordered : ordered.slice(0, Math.min(off.length || FEW, LISTED));
  const pattern = book.get("stamp", stamps[0]?.stamp)?.pattern;
  const again = (hosts: string[]): void => void gesture("stamp", { pattern: pattern!, hosts, answers: [] });
  return (
    <section aria-label="Hosts of the pattern">
      <HStack mb="1" gap="2">
        <Heading as="h3" size="sm" fontWeight="600">
          Hosts
        </Heading>
        {off.length > 1 && (
          <Button size="2xs" variant="outline" disabled={busy} onClick={() => again(off.map((s) => s.host))}>
            Stamp all {off.length} that are off again
          </Button>
        )}
      </HStack>
      {waiting ? (
        <p role="status" className="quiet">
          Looking at the hosts…
        </p>
      ) : !stamps.length ? (
        <Quiet>It is stamped on no host yet.</Quiet>
      ) : (
        <Table.Root size="sm" className="patterns-table">
          <Table.Header>
            <Table.Row bg="shade">
              <Table.ColumnHeader textAlign="end">No.</Table.ColumnHeader>
              <Table.ColumnHeader>Host</Table.ColumnHeader>
              <Table.ColumnHeader width="100%">Beside the pattern</Table.ColumnHeader>
              <Table.ColumnHeader>Actions</Table.ColumnHeader>
            </Table.Row>
          </Table.Header>
          <Table.Body>
            {shown.map((stamp) => (
              <Table.Row key={stamp.stamp} bg="sheet" verticalAlign="top">
                <Table.Cell textAlign="end">{stamp.number}</Table.Cell>
                <Table.Cell fontWeight="600">{name(stamp.host)}</Table.Cell>
                <Table.Cell>
                  {stamp.count ? (
                    <ul className="patterns-off" aria-label={`Differences of ${name(stamp.host)}`}>
                      {stamp.off.map((one) => (
                        <Difference key={`${one.about} ${one.field}`} one={one} host={name(stamp.host)} />
                      ))}
                      {stamp.count > stamp.off.length && (
                        <li className="quiet">{stamp.count - stamp.off.length} more differences</li>
                      )}
                    </ul>
                  ) : (
                    <span className="quiet">on it</span>
                  )}
                  {stamp.own > 0 && (
                    <span className="quiet">
                      {stamp.own === 1 ? " One difference is" : ` ${stamp.own} differences are`} kept as its own.
                    </span>
                  )}
                </Table.Cell>
                <Table.Cell>
                  <HStack gap="1">
                    {stamp.count > 0 && (
                      <Button size="2xs" variant="outline" disabled={busy} onClick={() => again([stamp.host])}>
                        Stamp again
                      </Button>
                    )}
                    <Button
                      size="2xs"
                      variant="outline"
                      disabled={busy}
                      title="What was stamped stays on it, as its own"
                      aria-label={`Take ${name(stamp.host)} off the pattern`}
                      onClick={() => void gesture("unstamp", { stamp: stamp.stamp })}
                    >
                      Take off
                    </Button>
                  </HStack>
                </Table.Cell>
              </Table.Row>
            ))}
          </Table.Body>
        </Table.Root>
      )}
      {ordered.length > shown.length && (
        <Button size="xs" variant="outline" mt="2" onClick={() => setAll(true)}>
          {(ordered.length - shown.length).toLocaleString("en")} more
          {off.length && off.length <= LISTED ? ", all on it" : ""}
        </Button>
      )}
    </section>
  );
}

function Difference({ one, host }: { one: Off; host: string }) {
  const { gesture } = usePlan();
  const { busy } = usePresence();
  const args = { stamp: one.stamp, about: one.about, field: one.field };
  return (
    <li>
      <span>{one.text}</span>
      <Button
        size="2xs"
        variant="ghost"
        color="copper.fg"
        disabled={busy}
        aria-label={`Into the pattern: ${one.text}`}
        title={one.what === "missing" ? "The pattern does without it too" : "The pattern says what this host has"}
        onClick={() => void gesture("adopt", args)}
      >
        Adopt
      </Button>
      <Button
        size="2xs"
        variant="ghost"
        color="copper.fg"
        disabled={busy}
        aria-label={`Keep as ${host}’s own: ${one.text}`}
        title="It isn’t told any more, and stamping leaves it alone"
        onClick={() => void gesture("keep", args)}
      >
        Keep
      </Button>
    </li>
  );
}
