import "./history.css";

import { Badge, Button, Heading, HStack, Input, NativeSelect } from "@chakra-ui/react";
import { useInfiniteQuery, useMutation, useQuery, useQueryClient } from "@tanstack/react-query";
import { useState, type FormEvent } from "react";
import { Link, useNavigate, useSearchParams } from "react-router";

import { api, unwrap, type HistoryItem } from "../api/client";
import { useActions, useHead } from "../api/plan";
import { moment, somebody } from "../model/said";
import { MARKS } from "../model/verdicts";
import { Quiet } from "../parts/controls";
import { Differences } from "../parts/Differences";
import { NumberedItem } from "../parts/NumberedItem";
import { VerdictMark } from "../parts/VerdictMark";

/** Every revision, the latest first; one of them beside another: records, verdicts and findings that differ. */
export function History() {
  const { id, at } = useActions();
  const { revision: now } = useHead();
  const [params, setParams] = useSearchParams();
  const history = useInfiniteQuery({
    queryKey: ["history", id, now],
    initialPageParam: 0,
    queryFn: async ({ pageParam }) =>
      unwrap(
        await api.GET("/api/plans/{plan_id}/history", {
          params: { path: { plan_id: id }, query: pageParam ? { before: pageParam } : {} },
        }),
      ),
    getNextPageParam: (page) => (page.more ? page.revisions.at(-1)?.number : undefined),
    placeholderData: (before) => before,
  });
  const items = history.data?.pages.flatMap((page) => page.revisions) ?? [];
  const latest = items[0]?.number ?? now;
  const chosen = Math.min(Number(params.get("revision") ?? at ?? latest) || 0, latest);
  const beside = Number(params.get("beside") ?? Math.max(0, chosen - 1)) || 0;
  const show = (revision: number, other?: number): void =>
    setParams(
      { revision: String(revision), ...(other === undefined ? {} : { beside: String(other) }) },
      { replace: true },
    );
  if (history.error) return <p role="alert">{history.error.message}</p>;
  return (
    <div className="history">
      <section className="history-list" aria-label="Revisions">
        <ol>
          {items.map((item) => (
            <NumberedItem
              key={item.number}
              number={item.number}
              name={item.message}
              current={item.number === chosen}
              go={() => show(item.number)}
            >
              <span className="history-who">
                {item.how === "base" && !item.author ? "by itself" : somebody(item.author)}, {moment(item.at)}
              </span>
              <Moved item={item} />
              {item.marks.map((mark) => (
                <Badge key={mark.id} colorPalette="copper" variant="outline">
                  {mark.name}
                </Badge>
              ))}
            </NumberedItem>
          ))}
        </ol>
        {history.hasNextPage && (
          <Button
            size="xs"
            variant="outline"
            m="3"
            loading={history.isFetchingNextPage}
            loadingText="Reading"
            onClick={() => void history.fetchNextPage()}
          >
            Earlier ones
          </Button>
        )}
      </section>
      <section className="history-main" aria-label="What changed">
        {history.data && (
          <Beside
            key={`${chosen} ${beside}`}
            revision={chosen}
            latest={latest}
            item={items.find((item) => item.number === chosen)}
            beside={beside}
            marks={history.data.pages[0]!.marks}
            show={show}
          />
        )}
      </section>
    </div>
  );
}

/** By how much a revision moved the count of each verdict. */
function Moved({ item: { counts, before } }: { item: HistoryItem }) {
  const moved = counts && before ? MARKS.filter((mark) => counts[mark] !== before[mark]) : [];
  if (!moved.length) return null;
  return (
    <HStack gap="2" as="span" className="history-moved">
      {moved.map((mark) => {
        const by = (counts![mark] ?? 0) - (before![mark] ?? 0);
        return (
          <HStack key={mark} as="span" gap="1">
            <VerdictMark mark={mark} size={9} />
            {`${by > 0 ? "+" : "−"}${Math.abs(by)} ${mark}`}
          </HStack>
        );
      })}
    </HStack>
  );
}

/** One revision beside another, and what can be done with it. */
function Beside({
  revision,
  latest,
  item,
  beside,
  marks,
  show,
}: {
  revision: number;
  latest: number;
  item: HistoryItem | undefined;
  beside: number;
  marks: HistoryItem["marks"];
  show: (revision: number, other?: number) => void;
}) {
  const { id, at, tell } = useActions();
  const queries = useQueryClient();
  const navigate = useNavigate();
  const path = { path: { plan_id: id } };
  const present = revision === latest;
  const first = revision === 0 && beside === 0;
  const compared = useQuery({
    enabled: !first,
    queryKey: ["compare", id, beside, revision],
    queryFn: async () =>
      unwrap(await api.GET("/api/plans/{plan_id}/compare", { params: { ...path, query: { a: beside, b: revision } } })),
  });
  const bringing = useMutation({
    mutationFn: async () =>
      unwrap(await api.POST("/api/plans/{plan_id}/bring-back", { params: path, body: { base: latest, revision } })),
    onSuccess: (made) => {
      tell(made.message);
      if (at === undefined) show(made.revision);
      else void navigate(`/plans/${id}/history?revision=${made.revision}`);
    },
    onError: (error) => tell(error.message, true),
  });
  const [other, setOther] = useState(String(beside));
  const takeOther = (event: FormEvent): void => {
    event.preventDefault();
    if (/^\d+$/.test(other) && Number(other) <= latest) show(revision, Number(other));
    else tell(`There is no revision ${other}; ${latest} is the latest.`, true);
  };
  const again = (): void => void queries.invalidateQueries({ queryKey: ["history", id] });
  return (
    <>
      <Heading as="h2" size="md" fontWeight="600">
        Revision {revision}
        {item && <span className="history-said">{item.message}</span>}
      </Heading>
      <HStack wrap="wrap" gap="2" my="2">
        <Button size="xs" variant="outline" asChild>
          <Link to={present ? `/plans/${id}` : `/plans/${id}/at/${revision}`}>Look at it</Link>
        </Button>
        <Button
          size="xs"
          variant="outline"
          disabled={present}
          loading={bringing.isPending}
          loadingText="Bringing it back"
          onClick={() => bringing.mutate()}
        >
          Bring it back
        </Button>
        {!present && (
          <Button size="xs" variant="outline" onClick={() => show(latest, revision)}>
            What came after it
          </Button>
        )}
        <form onSubmit={takeOther}>
          <HStack gap="1.5">
            <label htmlFor="history-beside">beside revision</label>
            <Input
              id="history-beside"
              size="xs"
              width="64px"
              inputMode="numeric"
              className="mono"
              value={other}
              onChange={(event) => setOther(event.target.value)}
            />
          </HStack>
        </form>
        {marks.length > 0 && (
          <NativeSelect.Root size="xs" width="190px">
            <NativeSelect.Field
              aria-label="Beside a marked revision"
              value=""
              onChange={(event) => show(revision, Number(event.target.value))}
            >
              <option value="">or a marked one</option>
              {marks.map((mark) => (
                <option key={mark.id} value={mark.revision}>
                  {mark.name} ({mark.revision})
                </option>
              ))}
            </NativeSelect.Field>
            <NativeSelect.Indicator />
          </NativeSelect.Root>
        )}
        <MarkForm revision={revision} done={again} />
      </HStack>
      {item && item.marks.length > 0 && (
        <HStack wrap="wrap" gap="2" mb="2">
          {item.marks.map((mark) => (
            <MarkTag key={mark.id} mark={mark} done={again} />
          ))}
        </HStack>
      )}
      {first && (
        <Quiet>Nothing came before it{latest > 0 && "; the number of another revision lays it beside that one"}.</Quiet>
      )}
      {!first && compared.isPending && <p role="status">Laying the two beside each other…</p>}
      {compared.error && <p role="alert">{compared.error.message}</p>}
      {compared.data && (
        <Differences of={compared.data} one={`Revision ${compared.data.a}`} two={`Revision ${compared.data.b}`} />
      )}
    </>
  );
}

/** A name for a revision: Enter gives it. */
function MarkForm({ revision, done }: { revision: number; done: () => void }) {
  const { id, tell } = useActions();
  const [name, setName] = useState("");
  const marking = useMutation({
    mutationFn: async () =>
      unwrap(
        await api.POST("/api/plans/{plan_id}/marks", {
          params: { path: { plan_id: id } },
          body: { revision, name: name.trim() },
        }),
      ),
    onSuccess: (mark) => {
      setName("");
      tell(`Revision ${mark.revision} is called ${mark.name}`);
      done();
    },
    onError: (error) => tell(error.message, true),
  });
  return (
    <form
      onSubmit={(event) => {
        event.preventDefault();
        if (name.trim() && !marking.isPending) marking.mutate();
      }}
    >
      <HStack gap="1.5">
        <Input
          size="xs"
          width="150px"
          aria-label={`A mark for revision ${revision}`}
          placeholder="as built, May"
          maxLength={80}
          value={name}
          onChange={(event) => setName(event.target.value)}
        />
        <Button size="xs" variant="outline" type="submit" disabled={!name.trim()}>
          Mark it
        </Button>
      </HStack>
    </form>
  );
}

function MarkTag({ mark, done }: { mark: HistoryItem["marks"][number]; done: () => void }) {
  const { id, tell } = useActions();
  const removing = useMutation({
    mutationFn: async () => {
      const path = { params: { path: { plan_id: id, number: mark.id } } };
      const { error, response } = await api.DELETE("/api/plans/{plan_id}/marks/{number}", path);
      if (error !== undefined) unwrap({ error, response });
    },
    onSuccess: done,
    onError: (error) => tell(error.message, true),
  });
  return (
    <Badge colorPalette="copper" variant="outline">
      {mark.name}, by {somebody(mark.author)}
      <Button
        size="2xs"
        variant="plain"
        aria-label={`Take the mark ${mark.name} away`}
        onClick={() => removing.mutate()}
      >
        ×
      </Button>
    </Badge>
  );
}
