import { useQuery } from "@tanstack/react-query";
import { useCallback, useMemo } from "react";
import { useSearchParams } from "react-router";

import { api, unwrap, type Endpoint, type Piece, type RecordOf } from "../api/client";
import { usePlan } from "../api/plan";
import type { Reading } from "../model/over";
import { compareNames, segmentWith, type Book } from "../model/records";
import { followedBy, wayOf } from "./followed";

type Segment = RecordOf<"segment">;

/** The segments in the order of their VIDs, and the one that is followed through the drawing. */
export interface Following {
  segments: Segment[];
  numberOf: ReadonlyMap<string, number>;
  segmentOf: ReadonlyMap<number, Segment>;
  follow: Segment | null;
  setFollow: (segment: string | null) => void;
  /** Its way through everything, once the server has said it. */
  pieces: Piece[] | undefined;
}

/** What is followed, with its way. */
export function useFollow(): Following {
  const { id, snapshot, book } = usePlan();
  const [params, setParams] = useSearchParams();
  const known = book.records.segment;
  const segments = useMemo(
    () =>
      [...known].sort(
        (a, b) => (a.vid ?? (a.vni ? 5000 : 4999)) - (b.vid ?? (b.vni ? 5000 : 4999)) || compareNames(a.name, b.name),
      ),
    [known],
  );
  const numberOf = useMemo(() => new Map(segments.map((s, n) => [s.id, n])), [segments]);
  const segmentOf = useMemo(() => new Map(segments.filter((s) => s.vid).map((s) => [s.vid!, s])), [segments]);
  const follow = book.get("segment", followedBy(params, snapshot.summary)) ?? null;
  const setFollow = useCallback(
    (next: string | null) =>
      setParams(
        (now) => {
          const made = new URLSearchParams(now);
          made.set("follow", next ?? "none");
          made.delete("at");
          return made;
        },
        { replace: true },
      ),
    [setParams],
  );
  const { data: pieces } = useQuery({
    ...wayOf(id, snapshot.revision, follow && follow.id),
    placeholderData: (before, query) => (query?.queryKey[3] === follow?.id ? before : undefined),
  });

  return useMemo(
    () => ({ segments, numberOf, segmentOf, follow, setFollow, pieces }),
    [segments, numberOf, segmentOf, follow, setFollow, pieces],
  );
}

/**
 * The segment that somebody means who follows a part: where an endpoint belongs; a port group's VID, or where its
 * guests land.
 */
export function segmentAt(book: Book, endpoints: Reading<string, Endpoint>, record: string): string | null {
  const own = endpoints.get(record)?.tags[0];
  if (own) return own.belongs ?? own.lands;
  const named = segmentWith(book, book.get("port_group", record)?.vid);
  if (named) return named.id;
  const seated = book.of("adapter", "port_group", record).flatMap((a) => endpoints.get(a.id)?.tags[0] ?? []);
  return seated.find((tag) => tag.lands)?.lands ?? seated.find((tag) => tag.belongs)?.belongs ?? null;
}

const NONE: Record<string, string> = {};

/**
 * The spanning tree, where switches take part in one: its roots, and the cables that it blocks with the switch that
 * does.
 */
export function useTree(): { roots: ReadonlySet<string>; blocked: Record<string, string> } {
  const { id, snapshot, book } = usePlan();
  const planted = book.records.fabric_switch.some((s) => s.spanning_tree);
  const tree = useQuery({
    queryKey: ["tree", id, snapshot.revision],
    enabled: planted,
    placeholderData: (before) => before,
    queryFn: async () => unwrap(await api.GET("/api/plans/{plan_id}/tree", { params: { path: { plan_id: id } } })),
  });
  const roots = useMemo(() => new Set(planted ? Object.values(tree.data?.roots ?? {}) : []), [planted, tree.data]);
  const blocked = (planted ? tree.data?.blocked : undefined) ?? NONE;
  return { roots, blocked };
}
