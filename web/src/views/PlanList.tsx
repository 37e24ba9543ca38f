import { Box, Button, Flex, Heading, HStack, IconButton, Input, Menu, Portal, Table, Text } from "@chakra-ui/react";
import { useMutation, useQuery, useQueryClient, type QueryClient } from "@tanstack/react-query";
import { CircleStop, Ellipsis, FilePlus2, FileUp, FolderInput, Trash2 } from "lucide-react";
import { memo, useEffect, useRef, useState, type ReactNode } from "react";
import { Link, useNavigate } from "react-router";

import { api, unwrap, upload, type PlanItem } from "../api/client";
import { useExport } from "../api/save";
import { GLOSSARY } from "../model/glossary";
import { moment, somebody } from "../model/said";
import { MARKS } from "../model/verdicts";
import { FileButton } from "../parts/FileButton";
import { VerdictMark } from "../parts/VerdictMark";
import { Page } from "../shell/Page";

const refresh = (queries: QueryClient): void => {
  void queries.invalidateQueries({ queryKey: ["plans"] });
  void queries.invalidateQueries({ queryKey: ["bin"] });
};

/** What is typed for a plan's name: for a new one, for a copy of one, or for one that is to be called otherwise. */
type Naming = { what: "new" } | { what: "copy" | "rename"; of: PlanItem };

export function PlanList({ user }: { user: string }) {
  const navigate = useNavigate();
  const queries = useQueryClient();
  const [naming, setNaming] = useState<Naming | null>(null);
  const [inBin, setInBin] = useState(false);
  const [unsaved, setUnsaved] = useState("");
  const plans = useQuery({
    queryKey: ["plans"],
    queryFn: async () => unwrap(await api.GET("/api/plans")),
    staleTime: 0,
  });
  const bin = useQuery({ queryKey: ["bin"], queryFn: async () => unwrap(await api.GET("/api/bin")), staleTime: 0 });
  const opened = (plan: PlanItem): void => {
    refresh(queries);
    void navigate(`/plans/${plan.id}`);
  };
  const importing = useMutation({
    mutationFn: async (file: File) => {
      const form = new FormData();
      form.set("file", file);
      return upload<PlanItem>("/api/plans/import", form);
    },
    onSuccess: opened,
  });
  const making = useMutation({
    mutationFn: async (name: string) => unwrap(await api.POST("/api/plans", { body: { name } })),
    onSuccess: opened,
  });
  const deleting = useMutation({
    mutationFn: async (plan: PlanItem) =>
      unwrap(await api.DELETE("/api/plans/{plan_id}", { params: { path: { plan_id: plan.id } } })),
    onSuccess: () => refresh(queries),
  });
  const restoring = useMutation({
    mutationFn: async (plan: PlanItem) =>
      unwrap(await api.POST("/api/bin/{plan_id}/restore", { params: { path: { plan_id: plan.id } } })),
    onSuccess: () => {
      refresh(queries);
      deleting.reset();
    },
  });
  const error = making.error ?? deleting.error ?? restoring.error;
  return (
    <Page user={user}>
      <Flex align="center" justify="space-between" mb="5" gap="4" wrap="wrap">
        <Heading as="h1" size="2xl" fontWeight="600">
          Plans
        </Heading>
        <HStack>
          <Button size="sm" variant="outline" asChild>
            <Link to="/plans/read">
              <FolderInput size={15} /> Read real hosts
            </Link>
          </Button>
          <FileButton
            label="Plan file"
            accept=".json,application/json"
            take={(file) => importing.mutate(file)}
            size="sm"
            variant="outline"
            loading={importing.isPending}
            loadingText="Importing"
          >
            <FileUp size={15} /> Import a plan file
          </FileButton>
          <Button size="sm" colorPalette="copper" onClick={() => setNaming({ what: "new" })}>
            <FilePlus2 size={15} /> New plan
          </Button>
        </HStack>
      </Flex>
      {naming?.what === "new" && (
        <Box bg="sheet" borderWidth="1px" rounded="md" p="3" mb="4">
          <NameForm
            label="Name of the new plan"
            name=""
            make="Make it"
            busy={making.isPending}
            done={(name) => making.mutate(name)}
            leave={() => setNaming(null)}
          />
        </Box>
      )}
      {importing.error && (
        <Problems title="The plan file can’t be used; nothing was imported." text={importing.error.message} />
      )}
      {error && <Problems title="That didn’t work; nothing was changed." text={error.message} />}
      {unsaved && <Problems title="Nothing was exported." text={unsaved} />}
      {plans.error && <Problems title="The plans can’t be listed." text={plans.error.message} />}
      {deleting.data && (
        <HStack role="status" bg="shade" borderWidth="1px" rounded="md" px="3" py="2" mb="4">
          <Text overflowWrap="anywhere">{deleting.data.name} is in the bin, for 30 days.</Text>
          <Button size="xs" variant="outline" onClick={() => restoring.mutate(deleting.data)}>
            Take it out again
          </Button>
        </HStack>
      )}
      {plans.data?.length === 0 && naming === null && (
        <Box borderWidth="1px" borderStyle="dashed" p="8" rounded="md" textAlign="center">
          <Text fontWeight="600">No plan yet</Text>
          <Text color="fg.muted">Make a new one, read the state of real hosts, or import a plan file.</Text>
        </Box>
      )}
      {!!plans.data?.length && (
        <Listing columns={["Plan", "Hosts", "Guests", "How it stands", "Last change", "Actions"]}>
          {plans.data.map((plan) => (
            <PlanLine
              key={plan.id}
              plan={plan}
              naming={naming !== null && naming.what !== "new" && naming.of.id === plan.id ? naming.what : null}
              name={setNaming}
              remove={deleting.mutate}
              unsaved={setUnsaved}
            />
          ))}
        </Listing>
      )}
      {!!bin.data?.length && (
        <Box mt="6">
          <Button
            size="sm"
            variant="ghost"
            aria-expanded={inBin}
            aria-controls="bin"
            mb="2"
            onClick={() => setInBin(!inBin)}
          >
            <Trash2 size={15} /> Bin: {bin.data.length} {bin.data.length === 1 ? "plan" : "plans"}
          </Button>
          <Box id="bin" hidden={!inBin}>
            <Listing columns={["Plan in the bin", "Hosts", "Guests", "Put there", "Kept until", "Actions"]}>
              {bin.data.map((plan) => (
                <BinLine key={plan.id} plan={plan} restore={() => restoring.mutate(plan)} />
              ))}
            </Listing>
          </Box>
        </Box>
      )}
    </Page>
  );
}

const day = (at: string): string => new Date(at).toLocaleDateString("en-GB", { dateStyle: "medium" });

/** A table whose last column holds what can be done with a line. */
function Listing({ columns, children }: { columns: string[]; children: ReactNode }) {
  return (
    <Table.Root size="sm" bg="sheet" borderWidth="1px" rounded="md">
      <Table.Header>
        <Table.Row bg="shade">
          {columns.map((column, n) => (
            <Table.ColumnHeader
              key={column}
              textAlign={n === 1 || n === 2 || n === columns.length - 1 ? "end" : undefined}
            >
              {column}
            </Table.ColumnHeader>
          ))}
        </Table.Row>
      </Table.Header>
      <Table.Body>{children}</Table.Body>
    </Table.Root>
  );
}

/** A plan's line; of hundreds, a click changes one or none. */
const PlanLine = memo(function PlanLine({
  plan,
  naming,
  name,
  remove,
  unsaved,
}: {
  plan: PlanItem;
  naming: "copy" | "rename" | null;
  name: (naming: Naming | null) => void;
  remove: (plan: PlanItem) => void;
  unsaved: (why: string) => void;
}) {
  const queries = useQueryClient();
  const saving = useExport(unsaved);
  const path = { params: { path: { plan_id: plan.id } } };
  const changing = useMutation({
    mutationFn: async (text: string) => {
      const body = { name: text };
      return naming === "copy"
        ? unwrap(await api.POST("/api/plans/{plan_id}/copy", { ...path, body }))
        : unwrap(await api.PATCH("/api/plans/{plan_id}", { ...path, body }));
    },
    onSuccess: () => {
      refresh(queries);
      name(null);
    },
  });
  const act = (what: string): void => {
    if (what === "copy" || what === "rename") {
      changing.reset();
      name({ what, of: plan });
    } else if (what === "export") saving.start(plan.id);
    else remove(plan);
  };
  return (
    <>
      <Table.Row bg="sheet">
        <Table.Cell maxW="280px">
          {naming === "rename" ? (
            <NameForm
              label={`New name of ${plan.name}`}
              name={plan.name}
              make="Rename"
              busy={changing.isPending}
              done={(text) => changing.mutate(text)}
              leave={() => name(null)}
            />
          ) : (
            <Link to={`/plans/${plan.id}`} className="plain-link clipped" title={plan.name}>
              {plan.name}
            </Link>
          )}
        </Table.Cell>
        <Table.Cell textAlign="end">{plan.hosts.toLocaleString("en")}</Table.Cell>
        <Table.Cell textAlign="end">{plan.guests.toLocaleString("en")}</Table.Cell>
        <Table.Cell>
          <Standing counts={plan.counts} />
        </Table.Cell>
        <Table.Cell>
          {moment(plan.changed)}
          <Text fontSize="xs" color="fg.muted">
            {somebody(plan.changed_by)}, revision {plan.revision}
          </Text>
        </Table.Cell>
        <Table.Cell textAlign="end">
          {saving.records !== null ? (
            <Button size="xs" variant="ghost" aria-label={`Stop exporting ${plan.name}`} onClick={saving.stop}>
              <CircleStop size={14} /> {saving.records.toLocaleString("en")} records
            </Button>
          ) : (
            <Menu.Root
              lazyMount
              unmountOnExit
              onSelect={({ value }) => act(value)}
              positioning={{ placement: "bottom-end" }}
            >
              <Menu.Trigger asChild>
                <IconButton size="xs" variant="ghost" aria-label={`What to do with ${plan.name}`}>
                  <Ellipsis size={15} />
                </IconButton>
              </Menu.Trigger>
              <Portal>
                <Menu.Positioner>
                  <Menu.Content bg="sheet">
                    <Menu.Item value="rename">Rename</Menu.Item>
                    <Menu.Item value="copy">Copy</Menu.Item>
                    <Menu.Item value="export">Export the plan file</Menu.Item>
                    <Menu.Separator />
                    <Menu.Item value="delete">Put into the bin</Menu.Item>
                  </Menu.Content>
                </Menu.Positioner>
              </Portal>
            </Menu.Root>
          )}
        </Table.Cell>
      </Table.Row>
      {(naming === "copy" || changing.error) && (
        <Table.Row bg="sheet">
          <Table.Cell colSpan={6}>
            {naming === "copy" && (
              <NameForm
                label={`Name of the copy of ${plan.name}`}
                name={`${[...plan.name].slice(0, 72).join("")}, copy`}
                make="Copy"
                busy={changing.isPending}
                done={(text) => changing.mutate(text)}
                leave={() => name(null)}
              />
            )}
            {changing.error && <Problems title="That didn’t work." text={changing.error.message} />}
          </Table.Cell>
        </Table.Row>
      )}
    </>
  );
});

/** How many endpoints have each verdict: those that anybody has. */
function Standing({ counts }: { counts: PlanItem["counts"] }) {
  if (counts === null) return <Text color="fg.muted">not judged yet</Text>;
  const some = MARKS.filter((mark) => counts[mark]);
  if (!some.length) return <Text color="fg.muted">no endpoint yet</Text>;
  return (
    <HStack as="ul" listStyleType="none" gap="2.5" wrap="wrap">
      {some.map((mark) => (
        <HStack as="li" key={mark} gap="1" title={`${mark}: ${GLOSSARY[mark]}`}>
          <VerdictMark mark={mark} size={11} />
          <span>
            {counts[mark]!.toLocaleString("en")}
            <span className="visually-hidden"> {mark}</span>
          </span>
        </HStack>
      ))}
    </HStack>
  );
}

function BinLine({ plan, restore }: { plan: PlanItem; restore: () => void }) {
  const queries = useQueryClient();
  const [sure, setSure] = useState(false);
  const ending = useMutation({
    mutationFn: async () => {
      const path = { params: { path: { plan_id: plan.id } } };
      const { error, response } = await api.DELETE("/api/bin/{plan_id}", path);
      if (error !== undefined) unwrap({ error, response });
    },
    onSuccess: () => refresh(queries),
  });
  return (
    <Table.Row bg="sheet">
      <Table.Cell maxW="240px">
        <span className="clipped" title={plan.name}>
          {plan.name}
        </span>
        {plan.draft_of !== null && (
          <Text fontSize="xs" color="fg.muted" className="clipped">
            draft of {plan.draft_of}
          </Text>
        )}
        {ending.error && <Problems title="It is still there." text={ending.error.message} />}
      </Table.Cell>
      <Table.Cell textAlign="end">{plan.hosts.toLocaleString("en")}</Table.Cell>
      <Table.Cell textAlign="end">{plan.guests.toLocaleString("en")}</Table.Cell>
      <Table.Cell>
        {moment(plan.binned!)}
        <Text fontSize="xs" color="fg.muted">
          {somebody(plan.binned_by)}
        </Text>
      </Table.Cell>
      <Table.Cell>{day(plan.kept_until!)}</Table.Cell>
      <Table.Cell textAlign="end">
        <HStack justify="end">
          <Button size="xs" variant="outline" aria-label={`Take ${plan.name} out of the bin`} onClick={restore}>
            Take out
          </Button>
          <Button
            size="xs"
            variant={sure ? "solid" : "ghost"}
            colorPalette={sure ? "red" : undefined}
            loading={ending.isPending}
            loadingText="Deleting"
            aria-label={sure ? `Yes, delete ${plan.name} for good` : `Delete ${plan.name} for good`}
            onBlur={() => setSure(false)}
            onClick={() => (sure ? ending.mutate() : setSure(true))}
          >
            {sure ? "Yes, for good" : "Delete for good"}
          </Button>
        </HStack>
      </Table.Cell>
    </Table.Row>
  );
}

/** One line in which a name is typed: Enter takes it, Esc leaves it. */
function NameForm({
  label,
  name,
  make,
  busy,
  done,
  leave,
}: {
  label: string;
  name: string;
  make: string;
  busy: boolean;
  done: (name: string) => void;
  leave: () => void;
}) {
  const [text, setText] = useState(name);
  const field = useRef<HTMLInputElement>(null);
  useEffect(() => {
    // A frame later, once the menu from which it was asked for has given the focus back.
    const frame = requestAnimationFrame(() => field.current?.select());
    return () => cancelAnimationFrame(frame);
  }, []);
  return (
    <form
      onSubmit={(event) => {
        event.preventDefault();
        if (text.trim() && !busy) done(text.trim());
      }}
      onKeyDown={(event) => event.key === "Escape" && leave()}
    >
      <HStack>
        <Input
          ref={field}
          size="sm"
          maxW="340px"
          aria-label={label}
          placeholder="Name"
          maxLength={80}
          value={text}
          onChange={(event) => setText(event.target.value)}
        />
        <Button size="sm" type="submit" colorPalette="copper" disabled={!text.trim()} loading={busy} loadingText={make}>
          {make}
        </Button>
        <Button size="sm" variant="ghost" onClick={leave}>
          Leave it
        </Button>
      </HStack>
    </form>
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
