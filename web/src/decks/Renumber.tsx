import { Button, Input } from "@chakra-ui/react";
import { useQuery } from "@tanstack/react-query";
import { useEffect, useRef, useState, type FormEvent } from "react";

import { api, unwrap } from "../api/client";
import { usePlan, usePresence } from "../api/plan";
import { readVid, type Book } from "../model/records";
import { Outcome, usePreviews } from "./Panel";

/** The least VID above one that no segment has. */
function nextFree(book: Book, vid: number): number {
  const taken = new Set(book.records.segment.map((s) => s.vid));
  let next = vid + 1;
  while (taken.has(next) && next < 4094) next++;
  return next;
}

/** Another VID for a segment, and for every tag and list that says the old one. */
export function Renumber({ id, book, done }: { id: string; book: Book; done: () => void }) {
  const { id: plan, snapshot, edit } = usePlan();
  const { busy } = usePresence();
  const segment = book.get("segment", id)!;
  const [text, setText] = useState(() => String(nextFree(book, segment.vid!)));
  const field = useRef<HTMLInputElement>(null);
  useEffect(() => field.current?.select(), []);
  const vid = readVid(text);
  const said = useQuery({
    queryKey: ["renumber", plan, snapshot.revision, segment.vid, vid],
    enabled: vid !== null && vid !== segment.vid,
    queryFn: async () =>
      unwrap(
        await api.POST("/api/plans/{plan_id}/gestures/renumber", {
          params: { path: { plan_id: plan } },
          body: { old: segment.vid!, new: vid! },
        }),
      ),
  });
  const operations = vid === null || vid === segment.vid ? [] : (said.data?.edit ?? []);
  const { results, error } = usePreviews([operations], operations.length > 0);
  const ready = operations.length > 0 && !busy && !results?.[0]?.problems.length;
  const saying = operations.length === 1 ? "One record says" : `${operations.length} records say`;
  const take = (event: FormEvent): void => {
    event.preventDefault();
    if (ready)
      void edit(`Renumber ${segment.name} from ${segment.vid} to ${vid}`, operations).then((made) => made && done());
  };
  return (
    <form className="fields" onSubmit={take}>
      <label className="field">
        <span>New VID</span>
        <Input
          ref={field}
          size="xs"
          className="mono"
          inputMode="numeric"
          value={text}
          onChange={(event) => setText(event.target.value)}
        />
      </label>
      {vid === null ? (
        <p className="outcome bad">A VID is a number from 1 to 4094.</p>
      ) : vid === segment.vid ? (
        <p className="outcome quiet">It has this number already.</p>
      ) : said.error ? (
        <p className="outcome bad">{said.error.message}</p>
      ) : (
        <>
          <p className="quiet">
            {operations.length ? `${saying} ${segment.vid}, and will say ${vid}.` : "Looking for all that say it…"}
          </p>
          {operations.length > 0 && <Outcome result={results?.[0]} error={error} />}
        </>
      )}
      <div className="panel-actions">
        <Button type="submit" size="xs" colorPalette="copper" disabled={!ready}>
          Renumber
        </Button>
        <span className="panel-keys">Enter takes, Esc leaves all as it is</span>
      </div>
    </form>
  );
}
