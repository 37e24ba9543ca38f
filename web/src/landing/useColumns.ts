import { useMutation, useQuery, useQueryClient } from "@tanstack/react-query";
import { useMemo } from "react";

import { api, unwrap } from "../api/client";
import { COLUMNS, USUAL, type Column } from "./columns";

const KEY = ["columns", "landing"];

/** The columns of Landing that somebody chose, kept by the server for wherever they log in. */
export function useColumns(): { columns: readonly Column[]; choose: (ids: readonly string[]) => void } {
  const client = useQueryClient();
  const asked = useQuery({
    queryKey: KEY,
    queryFn: async () => unwrap(await api.GET("/api/columns/{of}", { params: { path: { of: "landing" } } })),
    staleTime: Infinity,
  });
  const { mutate } = useMutation({
    // One after the other: what was chosen last is what is kept.
    scope: { id: KEY.join(" ") },
    // Whoever leaves the page right after choosing is kept too.
    mutationFn: async (columns: string[]) =>
      unwrap(
        await api.PUT("/api/columns/{of}", {
          params: { path: { of: "landing" } },
          body: { columns },
          keepalive: true,
        }),
      ),
    onMutate: (columns) => client.setQueryData(KEY, { columns }),
    // What the server didn't keep isn't shown as if it had.
    onError: () => client.invalidateQueries({ queryKey: KEY }),
  });
  const chosen = asked.data?.columns ?? USUAL;
  // The same for as long as nobody chooses others, since their widths are worked out of all rows.
  const columns = useMemo(() => COLUMNS.filter(({ always, id }) => always || chosen.includes(id)), [chosen]);
  return { columns, choose: (ids) => mutate([...ids]) };
}
