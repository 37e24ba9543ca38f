import { Button, Text, VisuallyHidden } from "@chakra-ui/react";
import { useEffect, useId, useRef, useState, type KeyboardEvent } from "react";

import { usePlan, usePresence } from "../api/plan";
import { compareNames, readVid, segmentWith } from "../model/records";
import { whereabouts } from "./edits";
import { ChoiceLine, TakeButton, Taking, TextLine, Told } from "../parts/controls";
import { VerdictMark } from "../parts/VerdictMark";
import { MODES } from "./fields";
import { freshName, newSwitch, nicsOf, nicText } from "./making";
import { Outcome, Panel, usePreviews } from "./Panel";

type Step = "nics" | "group" | "guests";
interface Choice {
  id: string;
  label: string;
  detail: string;
  /** What becomes of it, or what it takes from somebody. */
  note?: string;
  mark?: "home" | "unproven" | "wavering" | "stranded" | "astray" | "exposed";
}

/**
 * Making a switch in the order in which people do it: take NICs, name a port group and give it its tag, attach
 * guests, see them land.
 */
export function Build({ host, onto, close }: { host: string; onto: string | null; close: () => void }) {
  const { book, edit, snapshot } = usePlan();
  const { busy } = usePresence();
  const owner = book.get("host", host)!;
  const old = book.get("virtual_switch", onto);
  const switches = book.of("virtual_switch", "host", host);
  const [step, setStep] = useState<Step>("nics");
  const [name, setName] = useState(() => old?.name ?? freshName(switches, "switch"));
  const [nics, setNics] = useState<string[]>([]);
  const [mode, setMode] = useState("standby");
  const [group, setGroup] = useState("");
  const [tag, setTag] = useState("");
  const [adapters, setAdapters] = useState<string[]>([]);

  const vid = readVid(tag);
  const segment = segmentWith(book, vid);
  const wrong = tag.trim() && vid === null ? "A VID is a number from 1 to 4094; leave it empty for untagged." : "";
  const title =
    group.trim() || (adapters.length || tag.trim() ? (segment?.name ?? (vid ? `VID ${vid}` : "untagged")) : "");
  const operations = wrong
    ? []
    : newSwitch(book, {
        host,
        onto,
        name: name.trim() || "switch",
        nics,
        mode,
        group: title,
        vid,
        adapters,
        segment: segment?.id ?? null,
      });
  const { results, error } = usePreviews([operations], operations.length > 0);
  const result = operations.length ? results?.[0] : undefined;
  const blocked = !operations.length || busy || !!result?.problems.length;
  const make = (): void => {
    if (blocked) return;
    const what = old ? `Build on ${old.name} of ${owner.name}` : `Make ${name.trim()} on ${owner.name}`;
    void edit(what, operations).then((made) => made && close());
  };

  const free = nicsOf(book, host).filter((n) => !old || book.get("uplink", n.nic.uplink)?.switch !== old.id);
  const nicChoices: Choice[] = free.map((f) => ({
    id: f.nic.id,
    label: `${f.nic.name} ${nicText(f)}`,
    detail: `${f.use}; ${f.neighbour}`,
    note: nics.includes(f.nic.id) ? f.loses : undefined,
  }));
  const order = (belongs: string | null | undefined, seated: boolean): number =>
    (segment && belongs === segment.id ? 0 : 2) + Number(seated);
  const guestChoices: Choice[] = book
    .of("guest", "host", host)
    .flatMap((guest) => book.of("adapter", "guest", guest.id).map((adapter) => ({ guest, adapter })))
    .filter(({ adapter }) => adapter.type !== "direct")
    .sort(
      (a, b) =>
        order(a.adapter.belongs, !!a.adapter.port_group) - order(b.adapter.belongs, !!b.adapter.port_group) ||
        compareNames(a.guest.name, b.guest.name),
    )
    .map(({ guest, adapter }) => {
      const now = snapshot.endpoints.get(adapter.id)?.verdict;
      const move = result?.moves.find((m) => m.endpoint === adapter.id);
      return {
        id: adapter.id,
        label: `${guest.name} ${adapter.name}`,
        detail: whereabouts(book, adapter),
        mark: (move ? (move.after ?? undefined) : now) ?? undefined,
      };
    });
  const taken = free.filter((f) => nics.includes(f.nic.id));
  const steps: [Step, string, string][] = [
    ["nics", "NICs", taken.map((f) => f.nic.name).join(", ") || (old ? "as they are" : "none: sealed")],
    ["group", "Port group", title ? `${title} ${vid ?? "untagged"}` : "none yet"],
    ["guests", "Guests", adapters.length ? `${adapters.length} attached` : "none yet"],
  ];
  return (
    <Panel title={old ? `Build on ${old.name} of ${owner.name}` : `A new switch on ${owner.name}`} close={close}>
      <ol className="steps" aria-label="Steps">
        {steps.map(([key, label, said]) => (
          <li key={key}>
            <Button
              variant="plain"
              display="block"
              width="100%"
              height="auto"
              px="0.5"
              py="1"
              rounded="0"
              borderWidth="0"
              borderTopWidth="3px"
              borderColor="var(--line-strong)"
              _currentStep={{ borderColor: "var(--copper)" }}
              fontSize="11.5px"
              fontWeight="400"
              lineHeight="1.3"
              whiteSpace="normal"
              textAlign="start"
              overflowWrap="anywhere"
              aria-current={step === key ? "step" : undefined}
              onClick={() => setStep(key)}
            >
              <Text as="b" display="block" fontWeight="600">
                {label}
              </Text>
              {said}
            </Button>
          </li>
        ))}
      </ol>
      {step === "nics" && (
        <>
          {!old && (
            <div onKeyDown={(e) => e.key === "Enter" && setStep("group")}>
              <TextLine label="Switch" wide="60px" value={name} put={setName} />
            </div>
          )}
          <Picker
            label={`NICs of ${owner.name}`}
            choices={nicChoices}
            chosen={nics}
            put={setNics}
            next={() => setStep("group")}
            empty={old ? "It has every NIC of this host already." : "This host has no NIC; the switch will be sealed."}
          />
          {nics.length > 1 && !book.of("uplink", "switch", onto ?? "").length && (
            <ChoiceLine label="Team" wide="60px" value={mode} put={setMode} options={MODES} />
          )}
        </>
      )}
      {step === "group" && (
        <GroupStep
          group={group}
          setGroup={setGroup}
          tag={tag}
          setTag={setTag}
          hint={segment?.name ?? ""}
          next={() => !wrong && setStep("guests")}
        />
      )}
      {step === "guests" && (
        <Picker
          label={`Adapters on ${owner.name}`}
          choices={guestChoices}
          chosen={adapters}
          put={setAdapters}
          next={make}
          empty="No guest of this host has an adapter yet."
        />
      )}
      {wrong ? (
        <Told tone="bad">{wrong}</Told>
      ) : operations.length ? (
        <Outcome result={result} error={error} />
      ) : (
        <Told tone="quiet">Choose a NIC, or go on without one.</Told>
      )}
      <Taking
        keys={
          step === "group"
            ? "Enter goes on"
            : step === "nics"
              ? "Space takes, Enter goes on"
              : "Space attaches, Enter makes it"
        }
      >
        {step !== "guests" && (
          <Button size="xs" height="7" variant="outline" onClick={() => setStep(step === "nics" ? "group" : "guests")}>
            Next
          </Button>
        )}
        <TakeButton disabled={blocked} onClick={make}>
          Make it
        </TakeButton>
      </Taking>
    </Panel>
  );
}

function GroupStep({
  group,
  setGroup,
  tag,
  setTag,
  hint,
  next,
}: {
  group: string;
  setGroup: (v: string) => void;
  tag: string;
  setTag: (v: string) => void;
  hint: string;
  next: () => void;
}) {
  const { book } = usePlan();
  const first = useRef<HTMLInputElement>(null);
  const id = useId();
  useEffect(() => first.current?.focus({ preventScroll: true }), []);
  return (
    <form
      onSubmit={(e) => {
        e.preventDefault();
        next();
      }}
    >
      <TextLine label="Tag" wide="60px" value={tag} put={setTag} hint="untagged" numeric hold={first} list={id} />
      <datalist id={id}>
        {book.records.segment
          .filter((s) => s.vid)
          .map((s) => (
            <option key={s.id} value={String(s.vid)}>
              {s.name}
            </option>
          ))}
      </datalist>
      <TextLine label="Name" wide="60px" value={group} put={setGroup} hint={hint || "of the port group"} plain />
      <VisuallyHidden asChild>
        <Button type="submit">Go on to the guests</Button>
      </VisuallyHidden>
    </form>
  );
}

/** A list from which several are taken: arrows move, Space takes or leaves, Enter goes on. */
export function Picker({
  label,
  choices,
  chosen,
  put,
  next,
  empty,
}: {
  label: string;
  choices: Choice[];
  chosen: string[];
  put: (ids: string[]) => void;
  next: () => void;
  empty: string;
}) {
  const [at, setAt] = useState(0);
  const list = useRef<HTMLUListElement>(null);
  const nothing = useRef<HTMLParagraphElement>(null);
  const id = useId();
  // Enter acts here even where there is nothing to choose.
  useEffect(() => (list.current ?? nothing.current)?.focus({ preventScroll: true }), []);
  const toggle = (choice: string): void =>
    put(chosen.includes(choice) ? chosen.filter((c) => c !== choice) : [...chosen, choice]);
  const onKeyDown = (e: KeyboardEvent): void => {
    if (e.key === "ArrowDown" || e.key === "ArrowUp") {
      e.preventDefault();
      const to = (at + (e.key === "ArrowDown" ? 1 : -1) + choices.length) % Math.max(1, choices.length);
      setAt(to);
      list.current?.children[to]?.scrollIntoView({ block: "nearest" });
    } else if (e.key === " ") {
      e.preventDefault();
      const now = choices[at];
      if (now) toggle(now.id);
    } else if (e.key === "Enter") {
      e.preventDefault();
      next();
    }
  };
  if (!choices.length)
    return (
      <p ref={nothing} className="quiet" tabIndex={-1} onKeyDown={onKeyDown}>
        {empty}
      </p>
    );
  return (
    <ul
      ref={list}
      className="choices several"
      role="listbox"
      aria-multiselectable
      tabIndex={0}
      aria-label={label}
      aria-activedescendant={`${id}-${at}`}
      onKeyDown={onKeyDown}
    >
      {choices.map((choice, n) => (
        <li
          key={choice.id}
          id={`${id}-${n}`}
          role="option"
          aria-selected={chosen.includes(choice.id)}
          className={n === at ? "at" : ""}
          onMouseMove={() => setAt(n)}
          onClick={() => toggle(choice.id)}
        >
          <span className="choice-name">
            <span className="tick" aria-hidden>
              {chosen.includes(choice.id) ? "✓" : ""}
            </span>
            {choice.label}
          </span>
          <span className="choice-detail">{choice.detail}</span>
          {choice.note && <span className="choice-note">{choice.note}</span>}
          {choice.mark && (
            <span className="choice-becomes">
              <VerdictMark mark={choice.mark} /> {choice.mark}
            </span>
          )}
        </li>
      ))}
    </ul>
  );
}
