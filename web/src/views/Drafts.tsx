import "./history.css";

import { Badge, Button, Checkbox, Heading, HStack, Input, Text } from "@chakra-ui/react";
import { useMutation, useQuery, useQueryClient } from "@tanstack/react-query";
import { useState, type FormEvent } from "react";
import { useNavigate } from "react-router";

import { api, unwrap, type Draft } from "../api/client";
import { useActions, useDrafts, useHead } from "../api/plan";
import { Clashes } from "../drafts/Clashes";
import { moment, somebody } from "../model/said";
import { Quiet, TakeButton } from "../parts/controls";
import { Differences } from "../parts/Differences";
import { NumberedItem } from "../parts/NumberedItem";
import { Word } from "../parts/Word";

/** The drafts of a plan: begun, opened, laid beside the plan, brought along with it, landed or dropped. */
export function Drafts() {
  const { id } = useActions();
  const { draft_of: of } = useHead();
  const navigate = useNavigate();
  const drafts = useDrafts();
  if (drafts.error) return <p role="alert">{drafts.error.message}</p>;
  if (!drafts.data) return <p role="status">Reading the drafts…</p>;
  const own = drafts.data.find((draft) => draft.id === id);
  const open = drafts.data.filter((draft) => draft.landed === null);
  const landed = drafts.data.filter((draft) => draft.landed !== null);
  return (
    <div className="history">
      <section className="history-list" aria-label="Drafts">
        {[open, landed].map((listed, n) => (
          <ol key={n} aria-label={n ? "Landed" : "Open"}>
            {listed.map((draft) => (
              <NumberedItem
                key={draft.id}
                number={draft.revision}
                name={draft.name}
                current={draft.id === id}
                go={() => void navigate(`/plans/${draft.id}/drafts`)}
              >
                <span className="history-who">
                  {somebody(draft.changed_by)}, {moment(draft.changed)}
                </span>
                <span className="history-who">{standing(draft)}</span>
                {draft.private && (
                  <Badge colorPalette="copper" variant="outline">
                    yours alone
                  </Badge>
                )}
              </NumberedItem>
            ))}
          </ol>
        ))}
        {drafts.data.length === 0 && (
          <Text p="3" color="fg.muted">
            No draft yet.
          </Text>
        )}
      </section>
      <section className="history-main" aria-label={own ? "The draft" : "A new draft"}>
        {own ? <OneDraft key={own.id} draft={own} /> : of === null && <Begin />}
      </section>
    </div>
  );
}

function standing({ landed, base, latest }: Draft): string {
  if (landed !== null) return `landed as revision ${landed}`;
  return base < latest ? `on revision ${base}, the plan is at ${latest}` : `on revision ${base}`;
}

/** A new draft: Enter begins it. */
function Begin() {
  const { id, tell } = useActions();
  const queries = useQueryClient();
  const navigate = useNavigate();
  const [name, setName] = useState("");
  const [alone, setAlone] = useState(false);
  const beginning = useMutation({
    mutationFn: async () =>
      unwrap(
        await api.POST("/api/plans/{plan_id}/drafts", {
          params: { path: { plan_id: id } },
          body: { name: name.trim(), private: alone },
        }),
      ),
    onSuccess: (draft) => {
      void queries.invalidateQueries({ queryKey: ["drafts"] });
      void navigate(`/plans/${draft.id}/decks`);
    },
    onError: (error) => tell(error.message, true),
  });
  const begin = (event: FormEvent): void => {
    event.preventDefault();
    if (name.trim() && !beginning.isPending) beginning.mutate();
  };
  return (
    <form onSubmit={begin}>
      <Heading as="h2" size="md" fontWeight="600">
        New <Word word="draft" />
      </Heading>
      <Quiet>
        Every view works on a draft as on the plan, and the plan stays as it is. Landed, a draft is one revision of the
        plan, undone whole.
      </Quiet>
      <HStack gap="2" my="3">
        <label htmlFor="draft-name">Name</label>
        <Input
          id="draft-name"
          size="xs"
          width="300px"
          autoFocus
          maxLength={80}
          placeholder="storage on its own pair"
          value={name}
          onChange={(event) => setName(event.target.value)}
        />
        <TakeButton type="submit" disabled={!name.trim()} loading={beginning.isPending} loadingText="Beginning">
          Begin
        </TakeButton>
      </HStack>
      <Private value={alone} put={setAlone} />
    </form>
  );
}

const Private = ({ value, put }: { value: boolean; put: (value: boolean) => void }) => (
  <Checkbox.Root size="sm" checked={value} onCheckedChange={({ checked }) => put(checked === true)}>
    <Checkbox.HiddenInput />
    <Checkbox.Control />
    <Checkbox.Label fontWeight="400" fontSize="13px">
      for me alone, until I share it
    </Checkbox.Label>
  </Checkbox.Root>
);

/** The draft that is worked on: what it changes, and what becomes of it. */
function OneDraft({ draft }: { draft: Draft }) {
  const { id, tell } = useActions();
  const { revision } = useHead();
  const queries = useQueryClient();
  const navigate = useNavigate();
  const path = { params: { path: { plan_id: id } } };
  const behind = draft.landed === null && draft.base < draft.latest;
  const beside = useQuery({
    queryKey: ["beside", id, revision, draft.base],
    queryFn: async () => unwrap(await api.GET("/api/plans/{plan_id}/beside", path)),
    placeholderData: (before) => before,
  });
  const again = (): void => void queries.invalidateQueries({ queryKey: ["drafts"] });
  const told = { onError: (error: Error) => tell(error.message, true) };
  const landing = useMutation({
    mutationFn: async (message: string) =>
      unwrap(await api.POST("/api/plans/{plan_id}/land", { ...path, body: { message } })),
    onSuccess: (made) => {
      again();
      void navigate(`/plans/${made.plan}/history?revision=${made.revision.number}`);
    },
    ...told,
  });
  const renaming = useMutation({
    mutationFn: async (name: string) => unwrap(await api.PATCH("/api/plans/{plan_id}", { ...path, body: { name } })),
    onSuccess: again,
    ...told,
  });
  const sharing = useMutation({
    mutationFn: async (alone: boolean) =>
      unwrap(await api.PATCH("/api/plans/{plan_id}/draft", { ...path, body: { private: alone } })),
    onSuccess: again,
    ...told,
  });
  const dropping = useMutation({
    mutationFn: async () => unwrap(await api.DELETE("/api/plans/{plan_id}", path)),
    onSuccess: () => {
      again();
      void navigate(`/plans/${draft.plan}/drafts`);
    },
    ...told,
  });
  const [message, setMessage] = useState("");
  const [name, setName] = useState(draft.name);
  const land = (event: FormEvent): void => {
    event.preventDefault();
    if (!landing.isPending) landing.mutate(message.trim());
  };
  const rename = (event: FormEvent): void => {
    event.preventDefault();
    if (name.trim() && name.trim() !== draft.name) renaming.mutate(name.trim());
  };
  const nothing = beside.data?.changes.length === 0;
  return (
    <>
      <HStack wrap="wrap" gap="3" mb="3">
        <form onSubmit={rename}>
          <HStack gap="1.5">
            <label htmlFor="draft-renamed">Draft</label>
            <Input
              id="draft-renamed"
              size="xs"
              width="260px"
              maxLength={80}
              value={name}
              onChange={(event) => setName(event.target.value)}
            />
            {name.trim() !== draft.name && (
              <Button size="xs" variant="outline" type="submit" disabled={!name.trim()}>
                Rename
              </Button>
            )}
          </HStack>
        </form>
        <Private value={draft.private} put={(alone) => sharing.mutate(alone)} />
        <Button size="xs" variant="outline" loading={dropping.isPending} onClick={() => dropping.mutate()}>
          Drop it
        </Button>
        <Quiet>begun by {somebody(draft.author)}; dropped, it waits in the bin for 30 days</Quiet>
      </HStack>
      {behind && <Clashes draft={draft} />}
      {draft.landed === null && !behind && (
        <form onSubmit={land}>
          <HStack gap="2" mb="3">
            <label htmlFor="draft-message" className="history-label">
              Land it as
            </label>
            <Input
              id="draft-message"
              size="xs"
              width="340px"
              maxLength={400}
              placeholder={`Land ${draft.name}`}
              value={message}
              onChange={(event) => setMessage(event.target.value)}
            />
            <TakeButton type="submit" disabled={nothing} loading={landing.isPending} loadingText="Landing">
              Land it
            </TakeButton>
            <Quiet>{nothing ? "It changes nothing yet." : "One revision of the plan, undone whole."}</Quiet>
          </HStack>
        </form>
      )}
      <Heading as="h2" size="md" fontWeight="600">
        Beside the plan
      </Heading>
      {beside.error && <p role="alert">{beside.error.message}</p>}
      {!beside.data && !beside.error && <p role="status">Laying it beside the plan…</p>}
      {beside.data && <Differences of={beside.data} one={`Plan, revision ${draft.base}`} two="Draft" />}
    </>
  );
}
