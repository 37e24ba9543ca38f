import { useEffect, useRef, useState, type FormEvent } from "react";

import { useActions, useGesture, usePresence } from "../api/plan";
import { readVid, type Book } from "../model/records";
import { Quiet, TakeButton, Taking, TextLine, Told } from "../parts/controls";
import { Outcome } from "./Panel";

/** The least VID above one that no segment has. */
function nextFree(book: Book, vid: number): number {
  const taken = new Set(book.records.segment.map((s) => s.vid));
  let next = vid + 1;
  while (taken.has(next) && next < 4094) next++;
  return next;
}

/** Another VID for a segment, and for every tag and list that says the old one. */
export function Renumber({ id, book, done }: { id: string; book: Book; done: () => void }) {
  const { gesture } = useActions();
  const { busy } = usePresence();
  const segment = book.get("segment", id)!;
  const [text, setText] = useState(() => String(nextFree(book, segment.vid!)));
  const field = useRef<HTMLInputElement>(null);
  useEffect(() => field.current?.select(), []);
  const vid = readVid(text);
  const args = { old: segment.vid!, new: vid ?? 0 };
  const said = useGesture("renumber", args, vid !== null && vid !== segment.vid);
  const count = vid === null || vid === segment.vid ? 0 : (said.data?.operations ?? 0);
  const ready = count > 0 && !busy;
  const saying = count === 1 ? "One record says" : `${count} records say`;
  const take = (event: FormEvent): void => {
    event.preventDefault();
    if (ready) void gesture("renumber", args).then((made) => made && done());
  };
  return (
    <form onSubmit={take}>
      <TextLine label="New VID" value={text} put={setText} numeric hold={field} />
      {vid === null ? (
        <Told tone="bad">A VID is a number from 1 to 4094.</Told>
      ) : vid === segment.vid ? (
        <Told tone="quiet">It has this number already.</Told>
      ) : said.error ? (
        <Told tone="bad">{said.error.message}</Told>
      ) : (
        <>
          <Quiet>{count ? `${saying} ${segment.vid}, and will say ${vid}.` : "Looking for all that say it…"}</Quiet>
          {count > 0 && <Outcome result={said.data?.preview ?? undefined} />}
        </>
      )}
      <Taking keys="Enter takes, Esc leaves all as it is">
        <TakeButton type="submit" disabled={!ready}>
          Renumber
        </TakeButton>
      </Taking>
    </form>
  );
}
