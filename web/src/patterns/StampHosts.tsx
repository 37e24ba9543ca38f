import { Box, Button, Checkbox, Heading, HStack, Input, NativeSelect } from "@chakra-ui/react";
import { memo, useCallback, useDeferredValue, useEffect, useMemo, useRef, useState, type FormEvent } from "react";

import type { RecordOf, Stamped } from "../api/client";
import { useGesture, usePlan, usePresence } from "../api/plan";
import { Outcome } from "../decks/Panel";
import { Quiet, Told } from "../parts/controls";
import { counted } from "../model/kinds";
import { compareNames } from "../model/records";

/** So many hosts are listed; typing finds the others. */
const LISTED = 60;

/** Stamping a pattern: on which hosts, which NIC is which where that isn’t clear, and what it changes. */
export function StampHosts({
  pattern,
  stamped,
  first,
  done,
}: {
  pattern: RecordOf<"pattern">;
  stamped: Stamped[];
  first: string[];
  done: () => void;
}) {
  const { book, gesture } = usePlan();
  const { busy } = usePresence();
  const [picked, setPicked] = useState<ReadonlySet<string>>(new Set(first));
  const [typed, setTyped] = useState("");
  const [answers, setAnswers] = useState<Record<string, string>>({});
  const search = useRef<HTMLInputElement>(null);
  useEffect(() => search.current?.focus(), []);
  const known = useMemo(() => new Map(stamped.map((s) => [s.host, s])), [stamped]);
  const found = useMemo(() => {
    const words = typed.toLowerCase().split(/\s+/).filter(Boolean);
    const order = (host: string): number => (known.has(host) ? (known.get(host)!.count ? 1 : 2) : 0);
    return book.records.host
      .filter((h) => words.every((w) => `${h.name} ${h.site ?? ""}`.toLowerCase().includes(w)))
      .sort((a, b) => order(a.id) - order(b.id) || compareNames(a.name, b.name));
  }, [book, typed, known]);
  const args = {
    pattern: pattern.id,
    hosts: [...picked],
    answers: Object.entries(answers)
      .map(([key, nic]) => {
        const [host = "", part = ""] = key.split("\n");
        return { host, part, nic: nic === "-" ? null : nic };
      })
      .filter((a) => a.nic !== "" && picked.has(a.host)),
  };
  const seen = useGesture("stamp", args, picked.size > 0);
  const questions = seen.data?.questions ?? [];
  const ready = picked.size > 0 && !!seen.data && !questions.length && seen.data.operations > 0 && !busy;
  const take = (event: FormEvent): void => {
    event.preventDefault();
    if (ready) void gesture("stamp", args).then((made) => made && done());
  };
  const toggle = useCallback(
    (host: string) => setPicked((now) => new Set(now.has(host) ? [...now].filter((h) => h !== host) : [...now, host])),
    [],
  );
  // What it changes is asked for before many boxes are drawn anew.
  const shown = useDeferredValue(picked);
  return (
    <Box as="form" className="patterns-stamp" onSubmit={take} aria-label={`Stamp ${pattern.name}`}>
      <HStack wrap="wrap" gap="2">
        <Heading as="h3" size="sm" fontWeight="600">
          Stamp it on
        </Heading>
        <Input
          size="xs"
          width="190px"
          aria-label="Hosts with"
          placeholder="host or site"
          value={typed}
          onChange={(event) => setTyped(event.target.value)}
          ref={search}
        />
        <Button size="2xs" variant="outline" onClick={() => setPicked(new Set([...picked, ...found.map((h) => h.id)]))}>
          All {found.length.toLocaleString("en")} in sight
        </Button>
        <Button size="2xs" variant="outline" disabled={!picked.size} onClick={() => setPicked(new Set())}>
          None
        </Button>
        <span className="quiet">{picked.size ? `${counted("host", picked.size)} chosen` : "none chosen yet"}</span>
      </HStack>
      <HostChoices hosts={found} known={known} picked={shown} toggle={toggle} />
      {questions.length > 0 && (
        <div className="patterns-questions" role="group" aria-label="Which NIC is which">
          <p>Which NIC is which isn’t clear on {counted("host", new Set(questions.map((q) => q.host)).size)}:</p>
          {questions.map((question) => {
            const key = `${question.host}\n${question.part}`;
            const label = `${question.part_name} of ${question.host_name}`;
            return (
              <HStack key={key} gap="2">
                <span className="patterns-asked">{label}</span>
                <NativeSelect.Root size="xs" width="200px">
                  <NativeSelect.Field
                    aria-label={label}
                    value={answers[key] ?? ""}
                    onChange={(event) => setAnswers({ ...answers, [key]: event.target.value })}
                  >
                    <option value="">choose one</option>
                    {question.fits.map((nic) => (
                      <option key={nic.id} value={nic.id}>
                        {nic.name}
                      </option>
                    ))}
                    <option value="-">it goes without</option>
                  </NativeSelect.Field>
                  <NativeSelect.Indicator />
                </NativeSelect.Root>
                <span className="quiet">{question.text}</span>
              </HStack>
            );
          })}
        </div>
      )}
      {picked.size === 0 ? null : seen.error ? (
        <Told tone="bad">{seen.error.message}</Told>
      ) : !seen.data ? (
        <div role="status">
          <Told tone="quiet">Working out what would change…</Told>
        </div>
      ) : questions.length ? null : seen.data.operations === 0 ? (
        <Told tone="quiet">All of it is there already.</Told>
      ) : (
        <>
          <Quiet>{seen.data.operations.toLocaleString("en")} records would be made or changed.</Quiet>
          <Outcome result={seen.data.preview ?? undefined} />
        </>
      )}
      <HStack mt="2" gap="2">
        <Button type="submit" size="xs" colorPalette="copper" disabled={!ready}>
          Stamp {picked.size ? counted("host", picked.size) : "them"}
        </Button>
        <Button size="xs" variant="outline" onClick={done}>
          Leave it
        </Button>
      </HStack>
    </Box>
  );
}

/** Hosts to choose among: those that stand first, each with how it stands to the pattern. */
const HostChoices = memo(function HostChoices({
  hosts,
  known,
  picked,
  toggle,
}: {
  hosts: readonly RecordOf<"host">[];
  known: ReadonlyMap<string, Stamped>;
  picked: ReadonlySet<string>;
  toggle: (host: string) => void;
}) {
  const state = (host: string): string => (known.has(host) ? (known.get(host)!.count ? "off it" : "on it") : "");
  return (
    <>
      <div className="patterns-hosts" role="group" aria-label="Hosts">
        {hosts.slice(0, LISTED).map((host) => (
          <Checkbox.Root key={host.id} size="sm" checked={picked.has(host.id)} onCheckedChange={() => toggle(host.id)}>
            <Checkbox.HiddenInput />
            <Checkbox.Control />
            <Checkbox.Label>
              {host.name} <span className="quiet">{[host.site, state(host.id)].filter(Boolean).join(", ")}</span>
            </Checkbox.Label>
          </Checkbox.Root>
        ))}
      </div>
      {hosts.length > LISTED && (
        <Quiet>and {(hosts.length - LISTED).toLocaleString("en")} more; type a part of a name or site</Quiet>
      )}
    </>
  );
});
