import { Box, Button, Field, Flex, Heading, HStack, Input, Stack, Table, Text } from "@chakra-ui/react";
import { useMutation, useQueryClient } from "@tanstack/react-query";
import { FolderInput } from "lucide-react";
import { useRef, useState } from "react";
import { useNavigate } from "react-router";

import { upload, type Reading } from "../api/client";
import { MARKS } from "../model/verdicts";
import { VerdictMark } from "../parts/VerdictMark";
import { Page } from "../shell/Page";
import { Problems } from "./PlanList";

interface Picked {
  path: string;
  file: File;
}

const WHAT: Record<string, string> = {
  differs: "Differs: two sources disagree, or the state is out of the ordinary",
  "left out": "Left out, and why",
  proposed: "Proposed: intent that no state can say",
  read: "Read",
};

/** Files of a drop, folders walked through. */
async function walk(entry: FileSystemEntry, base: string): Promise<Picked[]> {
  const path = base ? `${base}/${entry.name}` : entry.name;
  if (entry.isFile)
    return [{ path, file: await new Promise<File>((done, fail) => (entry as FileSystemFileEntry).file(done, fail)) }];
  const reader = (entry as FileSystemDirectoryEntry).createReader();
  const found: Picked[] = [];
  for (;;) {
    const part = await new Promise<FileSystemEntry[]>((done, fail) => reader.readEntries(done, fail));
    if (!part.length) return found;
    for (const inner of part) found.push(...(await walk(inner, path)));
  }
}

export function ReadHosts({ user }: { user: string }) {
  const navigate = useNavigate();
  const queries = useQueryClient();
  const picker = useRef<HTMLInputElement>(null);
  const running = useRef<AbortController | null>(null);
  const [picked, setPicked] = useState<Picked[]>([]);
  const [name, setName] = useState("");
  const [over, setOver] = useState(false);

  const reading = useMutation({
    mutationFn: async ({ files, save }: { files: Picked[]; save: boolean }) => {
      running.current = new AbortController();
      const form = new FormData();
      form.set("name", name.trim() || "Hosts as read");
      if (save) form.set("save", "yes");
      for (const { path, file } of files) {
        form.append("path", path);
        form.append("file", file);
      }
      return upload<Reading>("/api/plans/read", form, running.current.signal);
    },
    onSuccess: (told) => {
      if (!told.plan) return;
      void queries.invalidateQueries({ queryKey: ["plans"] });
      void navigate(`/plans/${told.plan.id}/decks`);
    },
  });
  const take = (files: Picked[]): void => {
    setPicked(files);
    if (!name && files[0]) setName(files[0].path.split("/")[0] ?? "");
    reading.mutate({ files, save: false });
  };
  const told = reading.data;
  return (
    <Page user={user}>
      <Heading as="h1" size="2xl" fontWeight="600" mb="1">
        Read real hosts
      </Heading>
      <Text color="fg.muted" mb="5" maxW="70ch">
        One folder for each host and switch, with the JSON of{" "}
        <span className="mono nowrap">ip -details -json link show</span>,{" "}
        <span className="mono nowrap">ip -details -json addr show</span> and{" "}
        <span className="mono nowrap">bridge -json vlan show</span> as ip-link.json, ip-addr.json and bridge-vlan.json,
        and an LLDP capture for each NIC (nic0.lldp.pcap). You see the report before anything is saved.
      </Text>
      <Box
        onDragOver={(e) => {
          e.preventDefault();
          setOver(true);
        }}
        onDragLeave={() => setOver(false)}
        onDrop={(e) => {
          e.preventDefault();
          setOver(false);
          const entries = [...e.dataTransfer.items].map((i) => i.webkitGetAsEntry()).filter((i) => i !== null);
          void Promise.all(entries.map((entry) => walk(entry, ""))).then((lists) => take(lists.flat()));
        }}
        borderWidth="2px"
        borderStyle="dashed"
        borderColor={over ? "copper.fg" : "line"}
        bg={over ? "copper.subtle" : "sheet"}
        rounded="md"
        p="6"
        mb="5"
      >
        <Flex align="center" gap="4" wrap="wrap">
          <Button
            colorPalette="copper"
            onClick={() => picker.current?.click()}
            loading={reading.isPending}
            loadingText="Reading"
          >
            <FolderInput size={16} /> Choose a folder
          </Button>
          <Text color="fg.muted">or drop folders here</Text>
          {reading.isPending && (
            <Button size="sm" variant="outline" onClick={() => running.current?.abort()}>
              Cancel
            </Button>
          )}
          {picked.length > 0 && <Text>{picked.length} files chosen</Text>}
          <input
            ref={picker}
            type="file"
            multiple
            hidden
            aria-label="Folder with host states"
            {...{ webkitdirectory: "" }}
            onChange={(e) => {
              take([...(e.target.files ?? [])].map((file) => ({ path: file.webkitRelativePath || file.name, file })));
              e.target.value = "";
            }}
          />
        </Flex>
      </Box>
      {reading.error && <Problems title="This can’t be read; nothing was saved." text={reading.error.message} />}
      {told && !told.plan && (
        <Stack gap="5">
          <Box bg="sheet" borderWidth="1px" rounded="md" p="4">
            <Text fontWeight="600" mb="2">
              What was found
            </Text>
            <Flex columnGap="6" rowGap="0" wrap="wrap" mb="3">
              {Object.entries(told.records)
                .filter(([, n]) => n > 0)
                .map(([kind, n]) => (
                  <Text key={kind}>
                    <b>{n}</b> {kind.replaceAll("_", " ").replace("nic", "NIC")}
                    {n === 1 ? "" : kind.endsWith("switch") ? "es" : "s"}
                  </Text>
                ))}
            </Flex>
            <Flex gap="5" wrap="wrap">
              {MARKS.filter((m) => told.summary.counts[m]).map((mark) => (
                <HStack key={mark} gap="1.5">
                  <VerdictMark mark={mark} />
                  <Text>
                    <b>{told.summary.counts[mark]}</b> {mark}
                  </Text>
                </HStack>
              ))}
            </Flex>
          </Box>
          <HStack align="end" gap="3">
            <Field.Root maxW="320px">
              <Field.Label>Name of the plan</Field.Label>
              <Input size="sm" bg="sheet" value={name} maxLength={80} onChange={(e) => setName(e.target.value)} />
            </Field.Root>
            <Button
              size="sm"
              colorPalette="copper"
              loading={reading.isPending}
              onClick={() => reading.mutate({ files: picked, save: true })}
            >
              Make the plan
            </Button>
          </HStack>
          {Object.entries(WHAT).map(([what, title]) => {
            const notes = told.report.filter((n) => n.what === what);
            if (!notes.length) return null;
            return (
              <Box key={what} as="section">
                <Heading as="h2" size="sm" mb="2">
                  {title} ({notes.length})
                </Heading>
                <Table.Root size="sm" bg="sheet" borderWidth="1px">
                  <Table.Body>
                    {notes.map((note) => (
                      <Table.Row key={`${note.about} ${note.text}`} bg="sheet">
                        <Table.Cell className="mono" w="34%" verticalAlign="top" overflowWrap="anywhere">
                          {note.about}
                        </Table.Cell>
                        <Table.Cell>{note.text}</Table.Cell>
                      </Table.Row>
                    ))}
                  </Table.Body>
                </Table.Root>
              </Box>
            );
          })}
        </Stack>
      )}
    </Page>
  );
}
