import "../patterns/patterns.css";

import { Box, Button, Heading, HStack } from "@chakra-ui/react";
import { useQuery } from "@tanstack/react-query";
import { useState } from "react";
import { useSearchParams } from "react-router";

import { api, unwrap, type Stamped } from "../api/client";
import { useHead, usePlan } from "../api/plan";
import { patch } from "../decks/edits";
import { fieldsOf } from "../decks/fields";
import { FieldForm } from "../decks/Panel";
import { counted } from "../model/kinds";
import { compareNames } from "../model/records";
import { Hosts } from "../patterns/Hosts";
import { MakePattern } from "../patterns/MakePattern";
import { Parts } from "../patterns/Parts";
import { StampHosts } from "../patterns/StampHosts";

/** How many of a pattern’s hosts stand as it says. */
function standing(stamps: Stamped[]): string {
  const off = stamps.filter((s) => s.count).length;
  if (!stamps.length) return "stamped on no host yet";
  return `${counted("host", stamps.length)}, ${off ? `${off} off it` : "all on it"}`;
}

/** What hosts have alike: the patterns, what each says, which hosts are on it, and which are off. */
export function Patterns() {
  const { id, book, gesture } = usePlan();
  const { revision } = useHead();
  const [params, setParams] = useSearchParams();
  const told = useQuery({
    queryKey: ["patterns", id, revision],
    queryFn: async () => unwrap(await api.GET("/api/plans/{plan_id}/patterns", { params: { path: { plan_id: id } } })),
    placeholderData: (before) => before,
  });
  const patterns = [...book.records.pattern].sort((a, b) => compareNames(a.name, b.name));
  const like = params.get("like");
  const chosen = patterns.find((p) => p.id === params.get("pattern") || p.name === params.get("named")) ?? patterns[0];
  const making = like !== null || !chosen;
  const stamping = params.get("stamp");
  const [renaming, setRenaming] = useState(false);
  const show = (next: Record<string, string>): void => setParams(next, { replace: true });
  const stamps = (pattern: string): Stamped[] => told.data?.patterns.find((p) => p.id === pattern)?.stamps ?? [];
  return (
    <div className="patterns">
      <section className="patterns-list" aria-label="Patterns">
        <Button size="xs" variant="outline" m="2" aria-pressed={making} onClick={() => show({ like: "" })}>
          New pattern
        </Button>
        <ul>
          {patterns.map((pattern) => (
            <li key={pattern.id}>
              <Button
                variant="ghost"
                className="patterns-item"
                aria-current={!making && pattern.id === chosen?.id}
                onClick={() => show({ pattern: pattern.id })}
              >
                <span className="patterns-name">{pattern.name}</span>
                <span className="patterns-standing">{told.data ? standing(stamps(pattern.id)) : "…"}</span>
              </Button>
            </li>
          ))}
        </ul>
      </section>
      <section className="patterns-main" aria-label={making ? "New pattern" : `Pattern ${chosen?.name}`}>
        {told.error && <p role="alert">{told.error.message}</p>}
        {making ? (
          <MakePattern
            key={like}
            host={like ?? ""}
            starters={told.data?.starters ?? []}
            done={(name) => show({ named: name })}
            first={!patterns.length}
          />
        ) : (
          <>
            <HStack wrap="wrap" gap="2" mb="3">
              <Heading as="h2" size="md" fontWeight="600" overflowWrap="anywhere">
                {chosen.name}
              </Heading>
              <span className="quiet">{told.data && standing(stamps(chosen.id))}</span>
              <span className="spring" />
              {stamping === null && (
                <Button size="xs" colorPalette="copper" onClick={() => show({ pattern: chosen.id, stamp: "" })}>
                  Stamp it on hosts
                </Button>
              )}
              <Button size="xs" variant="outline" aria-expanded={renaming} onClick={() => setRenaming(!renaming)}>
                Rename
              </Button>
              <Button
                size="xs"
                variant="outline"
                title="What was stamped stays on its hosts, as their own"
                onClick={() => void gesture("remove-pattern", { pattern: chosen.id }).then((made) => made && show({}))}
              >
                Remove
              </Button>
            </HStack>
            {renaming && (
              <Box className="patterns-edit" onKeyDown={(event) => event.key === "Escape" && setRenaming(false)}>
                <FieldForm
                  fields={fieldsOf("pattern", book, chosen.id)}
                  record={chosen}
                  compose={(set) => [patch("pattern", chosen.id, set)]}
                  message={(set) => `Rename pattern ${chosen.name} to ${String(set.name)}`}
                  done={() => setRenaming(false)}
                />
              </Box>
            )}
            {stamping !== null && (
              <StampHosts
                key={`${chosen.id} ${stamping}`}
                pattern={chosen}
                stamped={stamps(chosen.id)}
                first={stamping ? [stamping] : []}
                done={() => show({ pattern: chosen.id })}
              />
            )}
            <Hosts key={chosen.id} stamps={stamps(chosen.id)} waiting={!told.data} />
            <Parts key={`${chosen.id} parts`} pattern={chosen} />
          </>
        )}
      </section>
    </div>
  );
}
