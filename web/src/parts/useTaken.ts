import { useQuery, type UseQueryResult } from "@tanstack/react-query";
import { useState } from "react";

import { upload, type Committed, type PreviewResult } from "../api/client";
import { usePlan } from "../api/plan";

interface Taken {
  preview: PreviewResult | null;
  committed: Committed | null;
}

/**
 * Something that comes in as a form: what the server says of it with nothing saved, whether it can be taken, and
 * taking it. `form` makes the form of either; it is asked anew whenever `key` differs.
 */
export function useTaken<T extends Taken>(
  part: string,
  key: readonly unknown[],
  enabled: boolean,
  form: (parts: { base: string; take: "yes" | "no" }) => FormData,
  close: () => void,
): { asked: UseQueryResult<T>; can: boolean; take: () => void } {
  const { id, snapshot, committed, tell } = usePlan();
  const [taking, setTaking] = useState(false);
  const send = (take: "yes" | "no", signal?: AbortSignal): Promise<T> =>
    upload<T>(`/api/plans/${id}/${part}`, form({ base: String(snapshot.revision), take }), signal);
  const asked = useQuery<T>({
    queryKey: [part, id, snapshot.revision, ...key],
    enabled,
    retry: false,
    gcTime: 0,
    placeholderData: (before) => before,
    queryFn: ({ signal }) => send("no", signal),
  });
  const { data } = asked;
  const can = Boolean(data?.preview && !data.preview.problems.length) && !asked.isPlaceholderData && !taking;
  const take = (): void => {
    setTaking(true);
    send("yes")
      .then((made) => {
        if (!made.committed) return void asked.refetch();
        committed(made.committed);
        close();
      })
      .catch((error: Error) => tell(error.message, true))
      .finally(() => setTaking(false));
  };
  return { asked, can, take };
}

/** Fields and a file as a form. */
export function formOf(fields: Record<string, string>, file: File | null): FormData {
  const made = new FormData();
  for (const [name, value] of Object.entries(fields)) made.append(name, value);
  if (file) made.append("file", file);
  return made;
}
