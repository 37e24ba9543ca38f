import { useQueryClient } from "@tanstack/react-query";
import { useEffect, useRef, useState } from "react";

import type { RevisionEvent } from "./client";

const FIRST_PAUSE = 1_000;
const LONGEST_PAUSE = 15_000;

/** What a plan is called, and who put it into the bin if somebody did. */
export interface About {
  name: string;
  binned_by: string | null;
}

export interface Heard {
  revision: (event: RevisionEvent) => void;
  people: (names: string[]) => void;
  about: (about: About) => void;
  /** Something about the plan's drafts is different. */
  drafts: () => void;
}

/**
 * Listens to a plan (null: to none); whether the server is heard right now.  A browser begins anew by itself where a
 * connection breaks, but gives up where the server refuses: then we do, unless that is since nobody is logged in.
 */
export function useLive(id: string | null, heard: Heard): boolean {
  const queries = useQueryClient();
  const [connected, setConnected] = useState(true);
  const latest = useRef(heard);
  useEffect(() => {
    latest.current = heard;
  });
  useEffect(() => {
    if (id === null) return;
    let source: EventSource;
    let timer: ReturnType<typeof setTimeout> | undefined;
    let pause = FIRST_PAUSE;
    const open = (): void => {
      source = new EventSource(`/api/plans/${id}/events`);
      source.onopen = () => {
        pause = FIRST_PAUSE;
        setConnected(true);
      };
      source.addEventListener("revision", (event) =>
        latest.current.revision(JSON.parse((event as MessageEvent<string>).data) as RevisionEvent),
      );
      source.addEventListener("people", (event) =>
        latest.current.people(JSON.parse((event as MessageEvent<string>).data) as string[]),
      );
      source.addEventListener("about", (event) =>
        latest.current.about(JSON.parse((event as MessageEvent<string>).data) as About),
      );
      source.addEventListener("drafts", () => latest.current.drafts());
      source.onerror = () => {
        setConnected(false);
        void queries.invalidateQueries({ queryKey: ["session"] });
        if (source.readyState !== EventSource.CLOSED) return;
        timer = setTimeout(open, pause);
        pause = Math.min(2 * pause, LONGEST_PAUSE);
      };
    };
    open();
    return () => {
      clearTimeout(timer);
      source.close();
    };
  }, [id, queries]);
  return connected;
}
