import "../rules/rules.css";

import { Box, Button, Heading, HStack } from "@chakra-ui/react";
import { useQuery } from "@tanstack/react-query";
import { useState } from "react";
import { Link, useSearchParams } from "react-router";

import { api, unwrap, type RuleTold } from "../api/client";
import { useHead, usePlan } from "../api/plan";
import { patch } from "../decks/edits";
import { drop, freshId, put } from "../decks/making";
import { LinkButton } from "../parts/controls";
import { OutcomeMark, OUTCOMES, type Outcome } from "../rules/Outcome";
import { RuleField } from "../rules/RuleField";

const ORDER = Object.keys(OUTCOMES) as Outcome[];

/** What must hold: the rules, how each fares, and where one is written. */
export function Rules() {
  const { id, book, edit, base } = usePlan();
  const { revision } = useHead();
  const [params, setParams] = useSearchParams();
  const [editing, setEditing] = useState<string | null>(null);
  const told = useQuery({
    queryKey: ["rules", id, revision],
    queryFn: async () => unwrap(await api.GET("/api/plans/{plan_id}/rules", { params: { path: { plan_id: id } } })),
    placeholderData: (before) => before,
  });
  const add = (texts: readonly string[]): Promise<unknown> => {
    const taken = new Set<string>();
    const operations = texts.map((text) => {
      const fresh = freshId(book, `rule-${text.slice(0, 60)}`, taken);
      taken.add(fresh);
      return put("rule", { id: fresh, text });
    });
    return edit(texts.length === 1 ? `Rule: ${texts[0]}` : `${texts.length} rules`, operations);
  };
  const open = (rule: RuleTold): void => {
    setParams(
      (now) => {
        const next = new URLSearchParams(now);
        if (rule.finding) next.set("finding", rule.finding);
        return next;
      },
      { replace: true },
    );
  };
  const rules = [...(told.data?.rules ?? [])].sort((a, b) => ORDER.indexOf(a.outcome) - ORDER.indexOf(b.outcome));
  const starting = told.data?.starting ?? [];
  return (
    <div className="rules">
      <RuleField
        key={params.get("write") ?? ""}
        label="Write a rule"
        first={params.get("write") ?? ""}
        action="Add the rule"
        take={(text) => add([text])}
        focus={params.has("write")}
      />
      {told.error && <p role="alert">{told.error.message}</p>}
      {!told.data && !told.error && <p className="quiet">Asking the rules…</p>}
      {told.data && rules.length === 0 && (
        <div className="empty-state">
          <h2>No rules yet</h2>
          <p>
            A rule says what must hold: who is kept apart from whom, who reaches whom, which packets a segment carries,
            who alone leases addresses, what two never share. It is asked of every state that teams may be in, at every
            edit.
          </p>
        </div>
      )}
      {rules.length > 0 && (
        <section aria-label="Rules">
          <HStack className="rules-head" gap="4">
            <Heading as="h2" size="sm">
              {rules.length === 1 ? "1 rule" : `${rules.length} rules`}
            </Heading>
            {ORDER.map((outcome) => {
              const count = rules.filter((rule) => rule.outcome === outcome).length;
              return count > 0 && <Counted key={outcome} outcome={outcome} count={count} />;
            })}
          </HStack>
          <ul className="rules-list">
            {rules.map((rule) => (
              <li key={rule.id} className="rules-item" data-outcome={rule.outcome}>
                {editing === rule.id ? (
                  <RuleField
                    label="Change the rule"
                    first={rule.rule}
                    action="Change it"
                    take={(text) =>
                      edit(`Rule: ${text}`, [patch("rule", rule.id, { text })]).then((made) => {
                        if (made) setEditing(null);
                        return made;
                      })
                    }
                    leave={() => setEditing(null)}
                    focus
                  />
                ) : (
                  <>
                    <OutcomeMark outcome={rule.outcome} />
                    <div className="rules-said">
                      <span className="rules-text mono">{rule.rule}</span>
                      <span className="rules-why">{rule.text}</span>
                      <Note id={rule.id} />
                    </div>
                    <HStack gap="3" className="rules-ways">
                      {rule.finding && (
                        <LinkButton onClick={() => open(rule)} aria-label={`Proof and mends of: ${rule.rule}`}>
                          Proof and mends
                        </LinkButton>
                      )}
                      {rule.a && rule.b && (
                        <LinkButton asChild aria-label={`Trace of: ${rule.rule}`}>
                          <Link to={`${base}/trace?a=${encodeURIComponent(rule.a)}&b=${encodeURIComponent(rule.b)}`}>
                            Trace
                          </Link>
                        </LinkButton>
                      )}
                      <LinkButton onClick={() => setEditing(rule.id)} aria-label={`Change: ${rule.rule}`}>
                        Change
                      </LinkButton>
                      <LinkButton
                        aria-label={`Remove: ${rule.rule}`}
                        onClick={() => void edit(`No more rule: ${rule.rule}`.slice(0, 400), [drop("rule", rule.id)])}
                      >
                        Remove
                      </LinkButton>
                    </HStack>
                  </>
                )}
              </li>
            ))}
          </ul>
        </section>
      )}
      {starting.length > 0 && (
        <section className="rules-starting" aria-label="Rules to start with">
          <HStack gap="4">
            <Heading as="h2" size="sm">
              {rules.length ? "What else may have to hold" : "Rules to start with"}
            </Heading>
            <Button size="xs" variant="outline" onClick={() => void add(starting)}>
              Add all {starting.length}
            </Button>
          </HStack>
          <ul>
            {starting.map((text) => (
              <li key={text}>
                <LinkButton className="mono" onClick={() => void add([text])} title="Add this rule">
                  {text}
                </LinkButton>
              </li>
            ))}
          </ul>
        </section>
      )}
    </div>
  );
}

function Counted({ outcome, count }: { outcome: Outcome; count: number }) {
  return (
    <Box as="span" className="rules-count">
      <b>{count}</b> <OutcomeMark outcome={outcome} />
    </Box>
  );
}

/** What people say of a rule. */
function Note({ id }: { id: string }) {
  const { book } = usePlan();
  const rule = book.get("rule", id);
  if (!rule?.note && !rule?.owner) return null;
  return (
    <span className="rules-why">{[rule.note, rule.owner && `Owner: ${rule.owner}`].filter(Boolean).join(" · ")}</span>
  );
}
