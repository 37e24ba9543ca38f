import { Button, Heading, HStack, RadioGroup, Table, Text } from "@chakra-ui/react";
import { useMutation, useQuery, useQueryClient } from "@tanstack/react-query";
import { useState } from "react";

import { api, unwrap, type Choice, type Clash, type Draft, type Rebasing } from "../api/client";
import { useActions } from "../api/plan";
import { TakeButton, Told } from "../parts/controls";

type Word = Choice["word"];

const placeOf = (clash: Clash): string => `${clash.kind} ${clash.id} ${clash.field}`;

/** Where the plan and a draft want different things: both words, to choose from. */
export function Clashes({ draft }: { draft: Draft }) {
  const { id, tell } = useActions();
  const queries = useQueryClient();
  const path = { params: { path: { plan_id: id } } };
  const asked = useQuery<Rebasing>({
    queryKey: ["rebase", id, draft.revision, draft.latest],
    queryFn: async () => unwrap(await api.GET("/api/plans/{plan_id}/rebase", path)),
  });
  const [words, setWords] = useState<ReadonlyMap<string, Word>>(new Map());
  const choosing = useMutation({
    mutationFn: async ({ to, choices }: { to: number; choices: Choice[] }) =>
      unwrap(await api.POST("/api/plans/{plan_id}/rebase", { ...path, body: { to, choices } })),
    onSuccess: (made) => {
      if (made.committed) tell(made.committed.message);
      void queries.invalidateQueries({ queryKey: ["drafts"] });
    },
    onError: (error) => {
      tell(error.message, true);
      void queries.invalidateQueries({ queryKey: ["rebase"] });
    },
  });
  if (asked.error) return <p role="alert">{asked.error.message}</p>;
  if (!asked.data) return <p role="status">Laying the draft upon the plan…</p>;
  // What a choice made necessary is asked beside what was.
  const made = choosing.data;
  const { clashes, problems } = made?.committed === null && made.to === asked.data.to ? made : asked.data;
  const left = clashes.filter((clash) => !words.has(placeOf(clash))).length;
  const choose = (these: Clash[], word: Word): void =>
    setWords(new Map([...words, ...these.map((clash): [string, Word] => [placeOf(clash), word])]));
  const take = (): void =>
    choosing.mutate({
      to: asked.data.to,
      choices: clashes.map((clash) => ({
        kind: clash.kind,
        id: clash.id,
        field: clash.field,
        word: words.get(placeOf(clash))!,
      })),
    });
  return (
    <section aria-label="What clashes">
      <Heading as="h2" size="md" fontWeight="600">
        The plan went on to revision {asked.data.to}
      </Heading>
      {clashes.length > 0 && (
        <>
          <Text my="1.5">
            Both changed the same. Choose whose word stands in this draft; the plan stays as it is until the draft
            lands.
          </Text>
          <HStack gap="2" mb="2">
            <Button size="xs" variant="outline" onClick={() => choose(clashes, "plan")}>
              The plan’s everywhere
            </Button>
            <Button size="xs" variant="outline" onClick={() => choose(clashes, "draft")}>
              The draft’s everywhere
            </Button>
          </HStack>
          <Table.Root size="sm" width="auto" className="clashes">
            <Table.Header>
              <Table.Row bg="shade">
                <Table.ColumnHeader>Record</Table.ColumnHeader>
                <Table.ColumnHeader>Before</Table.ColumnHeader>
                <Table.ColumnHeader>Whose word stands</Table.ColumnHeader>
              </Table.Row>
            </Table.Header>
            <Table.Body>
              {clashes.map((clash) => (
                <Table.Row key={placeOf(clash)} bg="sheet" verticalAlign="top">
                  <Table.Cell>
                    <b>{clash.name}</b>
                    <br />
                    {clash.label}
                  </Table.Cell>
                  <Table.Cell className="mono">{clash.base}</Table.Cell>
                  <Table.Cell>
                    <RadioGroup.Root
                      size="sm"
                      colorPalette="copper"
                      aria-label={`${clash.label} of ${clash.name}`}
                      value={words.get(placeOf(clash)) ?? null}
                      onValueChange={({ value }) => choose([clash], value as Word)}
                    >
                      <HStack gap="4" wrap="wrap" align="start">
                        {(["plan", "draft"] as const).map((word) => (
                          <RadioGroup.Item key={word} value={word}>
                            <RadioGroup.ItemHiddenInput />
                            <RadioGroup.ItemIndicator />
                            <RadioGroup.ItemText fontWeight="400">
                              the {word}: <span className="mono">{clash[word]}</span>
                            </RadioGroup.ItemText>
                          </RadioGroup.Item>
                        ))}
                      </HStack>
                    </RadioGroup.Root>
                  </Table.Cell>
                </Table.Row>
              ))}
            </Table.Body>
          </Table.Root>
        </>
      )}
      {problems.length > 0 && (
        <Told tone="bad">
          {[...problems.map((p) => p.text), "Put it right in the draft; then it comes along."].join("\n")}
        </Told>
      )}
      {clashes.length > 0 && (
        <HStack gap="3" my="3">
          <TakeButton disabled={left > 0} loading={choosing.isPending} loadingText="Bringing it along" onClick={take}>
            Bring the draft along
          </TakeButton>
          <Text color="fg.muted">
            {left > 0 ? `${left} left to choose` : "Undo is by its history: nothing is lost."}
          </Text>
        </HStack>
      )}
    </section>
  );
}
