import { queryOptions, useQuery } from "@tanstack/react-query";
import { useSearchParams } from "react-router";

import { api, unwrap, type Summary } from "../api/client";
import { useActions, useHead } from "../api/plan";

/** Which segment is followed: that of the address ("none": none of them), else that of the worst finding. */
export function followedBy(params: URLSearchParams, summary: Summary): string | null {
  const asked = params.get("follow");
  const first = summary.findings.find((finding) => finding.segment)?.segment;
  return asked === "none" ? null : (asked ?? first ?? null);
}

/** The way of a segment through everything. */
export const wayOf = (plan: string, revision: number, segment: string | null) =>
  queryOptions({
    queryKey: ["strand", plan, revision, segment],
    enabled: segment !== null,
    queryFn: async () =>
      unwrap(
        await api.GET("/api/plans/{plan_id}/strand", {
          params: { path: { plan_id: plan }, query: { segment: segment! } },
        }),
      ),
  });

/** Asks for the way of what will be followed while the records are still to come, so that it is drawn at once. */
export function FollowAhead(): null {
  const { id } = useActions();
  const { revision, summary } = useHead();
  const [params] = useSearchParams();
  useQuery(wayOf(id, revision, followedBy(params, summary)));
  return null;
}
