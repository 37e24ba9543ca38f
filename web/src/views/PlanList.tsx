import { Box, Button, Flex, Heading, HStack, Table, Text } from "@chakra-ui/react";
import { useMutation, useQuery, useQueryClient } from "@tanstack/react-query";
import { CircleStop, Download, FileUp, FolderInput } from "lucide-react";
import { useRef, useState } from "react";
import { Link, useNavigate } from "react-router";

import { api, unwrap, upload, type PlanItem } from "../api/client";
import { useExport } from "../api/save";
import { Page } from "../shell/Page";

export function PlanList({ user }: { user: string }) {
  const navigate = useNavigate();
  const queries = useQueryClient();
  const [unsaved, setUnsaved] = useState("");
  const picker = useRef<HTMLInputElement>(null);
  const plans = useQuery({
    queryKey: ["plans"],
    queryFn: async () => unwrap(await api.GET("/api/plans")),
    staleTime: 0,
  });
  const importing = useMutation({
    mutationFn: async (file: File) => {
      const form = new FormData();
      form.set("file", file);
      return upload<PlanItem>("/api/plans/import", form);
    },
    onSuccess: (plan) => {
      void queries.invalidateQueries({ queryKey: ["plans"] });
      void navigate(`/plans/${plan.id}/decks`);
    },
  });
  return (
    <Page user={user}>
      <Flex align="center" justify="space-between" mb="5" gap="4" wrap="wrap">
        <Heading as="h1" size="2xl" fontWeight="600">
          Plans
        </Heading>
        <HStack>
          <input
            ref={picker}
            type="file"
            accept=".json,application/json"
            hidden
            aria-label="Plan file"
            onChange={(e) => {
              const file = e.target.files?.[0];
              if (file) importing.mutate(file);
              e.target.value = "";
            }}
          />
          <Button size="sm" variant="outline" loading={importing.isPending} onClick={() => picker.current?.click()}>
            <FileUp size={15} /> Import a plan file
          </Button>
          <Button size="sm" colorPalette="copper" asChild>
            <Link to="/plans/read">
              <FolderInput size={15} /> Read real hosts
            </Link>
          </Button>
        </HStack>
      </Flex>
      {importing.error && (
        <Problems title="The plan file can’t be used; nothing was imported." text={importing.error.message} />
      )}
      {unsaved && <Problems title="Nothing was exported." text={unsaved} />}
      {plans.error && <Problems title="The plans can’t be listed." text={plans.error.message} />}
      {plans.data?.length === 0 && (
        <Box borderWidth="1px" borderStyle="dashed" p="8" rounded="md" textAlign="center">
          <Text fontWeight="600">No plan yet</Text>
          <Text color="fg.muted">Read the state of real hosts, or import a plan file.</Text>
        </Box>
      )}
      {!!plans.data?.length && (
        <Table.Root size="sm" bg="sheet" borderWidth="1px" rounded="md">
          <Table.Header>
            <Table.Row bg="shade">
              <Table.ColumnHeader>Plan</Table.ColumnHeader>
              <Table.ColumnHeader textAlign="end">Hosts</Table.ColumnHeader>
              <Table.ColumnHeader textAlign="end">Guests</Table.ColumnHeader>
              <Table.ColumnHeader textAlign="end">Revision</Table.ColumnHeader>
              <Table.ColumnHeader>Last change</Table.ColumnHeader>
              <Table.ColumnHeader textAlign="end">File</Table.ColumnHeader>
            </Table.Row>
          </Table.Header>
          <Table.Body>
            {plans.data.map((plan) => (
              <Table.Row key={plan.id} bg="sheet">
                <Table.Cell>
                  <Link to={`/plans/${plan.id}/decks`} className="plain-link">
                    {plan.name}
                  </Link>
                </Table.Cell>
                <Table.Cell textAlign="end">{plan.hosts}</Table.Cell>
                <Table.Cell textAlign="end">{plan.guests}</Table.Cell>
                <Table.Cell textAlign="end">{plan.revision}</Table.Cell>
                <Table.Cell>
                  {new Date(plan.changed).toLocaleString("en-GB", { dateStyle: "medium", timeStyle: "short" })}
                </Table.Cell>
                <Table.Cell textAlign="end">
                  <ExportButton plan={plan} failed={setUnsaved} />
                </Table.Cell>
              </Table.Row>
            ))}
          </Table.Body>
        </Table.Root>
      )}
    </Page>
  );
}

function ExportButton({ plan, failed }: { plan: PlanItem; failed: (why: string) => void }) {
  const saving = useExport(failed);
  return saving.records === null ? (
    <Button size="xs" variant="ghost" aria-label={`Export ${plan.name}`} onClick={() => saving.start(plan.id)}>
      <Download size={14} /> Export
    </Button>
  ) : (
    <Button size="xs" variant="ghost" aria-label={`Stop exporting ${plan.name}`} onClick={saving.stop}>
      <CircleStop size={14} /> {saving.records.toLocaleString("en")} records
    </Button>
  );
}

/** What was refused and why, line by line. */
export function Problems({ title, text }: { title: string; text: string }) {
  const lines = text.split("\n");
  return (
    <Box role="alert" bg="var(--bad-soft)" borderLeft="3px solid var(--v-exposed)" p="3" mb="4" rounded="sm">
      <Text fontWeight="600">{title}</Text>
      {lines.slice(0, 12).map((line) => (
        <Text key={line} fontSize="sm" className="mono" overflowWrap="anywhere">
          {line}
        </Text>
      ))}
      {lines.length > 12 && <Text fontSize="sm">and {lines.length - 12} more</Text>}
    </Box>
  );
}
