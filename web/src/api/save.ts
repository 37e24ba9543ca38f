import { useCallback, useRef, useState } from "react";

import { Refused, type Refusal } from "./client";

/** What is saved so far: how many records; null while nothing is being saved. */
export interface Saving {
  records: number | null;
  start: (plan: string, at?: number) => void;
  stop: () => void;
}

/** Saves a plan file, which comes in parts so that no answer is large; the parts of one revision make the file. */
export function useExport(failed: (why: string) => void): Saving {
  const [records, setRecords] = useState<number | null>(null);
  const running = useRef<AbortController | null>(null);
  const stop = useCallback(() => running.current?.abort(), []);
  const start = useCallback(
    (plan: string, at?: number) => {
      running.current?.abort();
      const abort = (running.current = new AbortController());
      setRecords(0);
      fetchParts(`/api/plans/${plan}/export${at === undefined ? "" : `?at=${at}`}`, abort.signal, setRecords)
        .then(({ name, parts }) => save(name, parts))
        .catch((error: Error) => abort.signal.aborted || failed(`The plan file can’t be saved: ${error.message}`))
        .finally(() => running.current === abort && setRecords(null));
    },
    [failed],
  );
  return { records, start, stop };
}

async function fetchParts(
  first: string,
  signal: AbortSignal,
  progress: (records: number) => void,
): Promise<{ name: string; parts: Blob[] }> {
  let parts: Blob[] = [];
  let revision: string | null = null;
  let name = "plan.json";
  for (let at: string | undefined = first; at;) {
    const answer: Response = await fetch(at, { signal });
    if (!answer.ok)
      throw new Refused(answer.status, (await answer.json().catch(() => undefined)) as Refusal | undefined);
    if (parts.length && answer.headers.get("ETag") !== revision) {
      parts = [];
      at = first;
      continue;
    }
    revision = answer.headers.get("ETag");
    name = /filename="([^"]*)"/.exec(answer.headers.get("Content-Disposition") ?? "")?.[1] ?? name;
    parts.push(await answer.blob());
    at = /<([^>]*)>; rel="next"/.exec(answer.headers.get("Link") ?? "")?.[1];
    progress(Number(/from=(\d+)/.exec(at ?? "")?.[1] ?? 0));
  }
  return { name, parts };
}

function save(name: string, parts: Blob[]): void {
  const address = URL.createObjectURL(new Blob(parts, { type: "application/json" }));
  const link = Object.assign(document.createElement("a"), { href: address, download: name });
  link.click();
  setTimeout(() => URL.revokeObjectURL(address), 60_000);
}
