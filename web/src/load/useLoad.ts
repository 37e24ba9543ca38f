import { useQuery } from "@tanstack/react-query";

import { api, unwrap } from "../api/client";
import { usePlan } from "../api/plan";

/** What is asked of the load: after a failure, while a burst lasts, and of which cables and flows. */
interface Asked {
  failure: string;
  burst: string;
  cables: string;
  flows: string;
}

/** How full the cables of some hosts' NICs are, and those between switches. */
export function useWidths(hosts: readonly string[], enabled: boolean) {
  const { id, at, snapshot } = usePlan();
  return useQuery({
    queryKey: ["load-widths", id, at, snapshot.revision, ...hosts],
    enabled,
    queryFn: async () =>
      unwrap(
        await api.GET("/api/plans/{plan_id}/load-widths", {
          params: { path: { plan_id: id }, query: { host: [...hosts] } },
        }),
      ),
    placeholderData: (before) => before,
  });
}

/** The load of the plan as it is shown. */
export function useLoad(asked: Asked) {
  const { id, at, snapshot } = usePlan();
  return useQuery({
    queryKey: ["load", id, at, snapshot.revision, asked],
    queryFn: async () =>
      unwrap(
        await api.GET("/api/plans/{plan_id}/load", {
          params: {
            path: { plan_id: id },
            query: Object.fromEntries(Object.entries(asked).filter(([, text]) => text)),
          },
        }),
      ),
    placeholderData: (before) => before,
  });
}
