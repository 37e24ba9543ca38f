import "./differences.css";

import { Box, Heading, HStack, Table, Text } from "@chakra-ui/react";

import type { Change, Comparison } from "../api/client";
import { MARKS, sayMoves } from "../model/verdicts";
import { VerdictMark } from "./VerdictMark";

const SIGNS: Record<Change["what"], string> = { made: "+", changed: "≠", gone: "−" };

/** What differs between two plans: verdicts, records in words, findings. */
export function Differences({ of, one, two }: { of: Comparison; one: string; two: string }) {
  const { before, after } = of.counts;
  const differing = of.changes.length + of.more;
  return (
    <>
      <Table.Root size="sm" width="auto" my="2">
        <Table.Header>
          <Table.Row bg="shade">
            <Table.ColumnHeader>Verdict</Table.ColumnHeader>
            <Table.ColumnHeader textAlign="end">{one}</Table.ColumnHeader>
            <Table.ColumnHeader textAlign="end">{two}</Table.ColumnHeader>
          </Table.Row>
        </Table.Header>
        <Table.Body>
          {MARKS.filter((mark) => before[mark] || after[mark]).map((mark) => (
            <Table.Row key={mark} bg="sheet" fontWeight={before[mark] === after[mark] ? undefined : "600"}>
              <Table.Cell>
                <HStack gap="1.5">
                  <VerdictMark mark={mark} size={11} /> {mark}
                </HStack>
              </Table.Cell>
              <Table.Cell textAlign="end">{before[mark]?.toLocaleString("en")}</Table.Cell>
              <Table.Cell textAlign="end">{after[mark]?.toLocaleString("en")}</Table.Cell>
            </Table.Row>
          ))}
        </Table.Body>
      </Table.Root>
      <Text mb="3">{of.tally.length ? sayMoves(of.tally) : "Nobody’s verdict differs."}</Text>
      <Heading as="h3" size="sm" fontWeight="600">
        {differing
          ? `${differing.toLocaleString("en")} ${differing === 1 ? "record differs" : "records differ"}`
          : "Both say the same"}
      </Heading>
      <ul className="differences" aria-label="Records that differ">
        {of.changes.map((change) => (
          <li key={`${change.kind} ${change.id}`}>
            <span className="mono" aria-hidden>
              {SIGNS[change.what]}
            </span>
            <span>
              <b>{change.name}</b> {change.what !== "changed" && change.what}
              {change.fields.map((field) => (
                <span key={field.field} className="difference-field">
                  {field.field} <span className="mono">{field.before}</span> →{" "}
                  <span className="mono">{field.after}</span>
                </span>
              ))}
            </span>
          </li>
        ))}
      </ul>
      {of.more > 0 && <Text color="fg.muted">and {of.more.toLocaleString("en")} more</Text>}
      <Findings title="No longer found" of={of.gone} />
      <Findings title="Newly found" of={of.new} />
    </>
  );
}

function Findings({ title, of }: { title: string; of: Comparison["gone"] }) {
  if (!of.length) return null;
  return (
    <Box mt="3">
      <Heading as="h3" size="sm" fontWeight="600">
        {title}
      </Heading>
      <ul className="differences" aria-label={title}>
        {of.map((finding) => (
          <li key={finding.id}>
            <VerdictMark mark={finding.verdict} size={11} />
            <span>
              {finding.title}. <span className="difference-field">{finding.text}</span>
            </span>
          </li>
        ))}
      </ul>
    </Box>
  );
}
