import { useQueryClient } from "@tanstack/react-query";
import { useCallback, useEffect, useRef } from "react";

import { api, unwrap, type Mend } from "../api/client";
import { usePlan } from "../api/plan";

/** For so many milliseconds it rests before it is asked what would mend what came into sight. */
const REST = 60;
/** So many are asked for at the most, the latest that came into sight. */
const IN_SIGHT = 40;

/**
 * The first mend of a finding, which is worked out once the finding comes into sight: undefined until it is known or
 * where there is none.  `drawn` is called when more of them are known.
 */
export function useFirstMends(drawn: () => void): (finding: string) => Mend | undefined {
  const { id, snapshot } = usePlan();
  const client = useQueryClient();
  const { revision } = snapshot;
  const known = useRef(new Map<string, Mend | undefined>());
  const waiting = useRef({ findings: new Set<string>(), timer: 0 });
  useEffect(() => {
    const { current } = waiting;
    return () => {
      window.clearTimeout(current.timer);
      current.findings.clear();
      known.current = new Map();
    };
  }, [id, revision]);
  return useCallback(
    (finding) => {
      const mends = known.current;
      if (mends.has(finding)) return mends.get(finding);
      const { current } = waiting;
      current.findings.add(finding);
      window.clearTimeout(current.timer);
      current.timer = window.setTimeout(() => {
        const wanted = [...current.findings].slice(-IN_SIGHT);
        current.findings.clear();
        for (const one of wanted) {
          mends.set(one, undefined);
          const path = { plan_id: id, finding_id: one };
          const asked = client.fetchQuery({
            queryKey: ["finding", id, revision, one],
            queryFn: async () =>
              unwrap(await api.GET("/api/plans/{plan_id}/findings/{finding_id}", { params: { path } })),
            staleTime: Infinity,
          });
          asked.then(
            (detail) => {
              mends.set(one, detail.mends[0]);
              drawn();
            },
            // Whoever opens the finding is told what is wrong; here it is asked again when it is drawn again.
            () => mends.delete(one),
          );
        }
      }, REST);
      return undefined;
    },
    [client, id, revision, drawn],
  );
}
