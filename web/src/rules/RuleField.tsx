import { Button, Combobox, createListCollection, HStack, Portal, Text } from "@chakra-ui/react";
import { useQuery } from "@tanstack/react-query";
import { useEffect, useMemo, useRef, useState, type ReactNode } from "react";

import { api, unwrap, type RuleRead } from "../api/client";
import { useHead, usePlan } from "../api/plan";
import { Keys, TakeButton } from "../parts/controls";
import { OutcomeMark } from "./Outcome";
import { namesOf, suggestions, wordStart } from "./suggest";

/** How a sentence is read, and how it would fare, once somebody has stopped typing for a moment. */
function useRead(text: string, before: number) {
  const { id } = usePlan();
  const { revision } = useHead();
  const [asked, setAsked] = useState({ text, before });
  useEffect(() => {
    const timer = setTimeout(() => setAsked({ text, before }), 120);
    return () => clearTimeout(timer);
  }, [text, before]);
  return useQuery<RuleRead>({
    queryKey: ["rule", id, revision, asked.text, asked.before],
    retry: false,
    placeholderData: (known) => known,
    queryFn: async () =>
      unwrap(
        await api.GET("/api/plans/{plan_id}/rule", {
          params: { path: { plan_id: id }, query: { text: asked.text, before: asked.before } },
        }),
      ),
  });
}

/**
 * A field for a rule: it completes words and names, shows how the sentence is read, and says how it would fare before
 * it is taken.
 */
export function RuleField({
  label,
  first,
  action,
  take,
  leave,
  focus,
}: {
  label: string;
  first: string;
  action: string;
  take: (text: string) => Promise<unknown>;
  leave?: () => void;
  focus: boolean;
}) {
  const { book } = usePlan();
  const [text, setText] = useState(first);
  const [at, setAt] = useState(first.length);
  const [open, setOpen] = useState(false);
  const input = useRef<HTMLInputElement>(null);
  const names = useMemo(() => namesOf(book), [book]);
  const { data: read, error } = useRead(text, wordStart(text, at));
  const items = useMemo(
    () =>
      suggestions(read, names, text, at).map((s) => ({
        ...s,
        key: `${s.what} ${s.value}`,
      })),
    [read, names, text, at],
  );
  const collection = useMemo(
    () => createListCollection({ items, itemToValue: (i) => i.key, itemToString: (i) => i.value }),
    [items],
  );
  useEffect(() => {
    if (focus) input.current?.focus();
  }, [focus]);
  const complete = (key: string): void => {
    const chosen = items.find((i) => i.key === key);
    if (!chosen) return;
    const start = wordStart(text, at);
    const made = `${text.slice(0, start)}${chosen.value} `;
    setText(made + text.slice(at).trimStart());
    setAt(made.length);
    requestAnimationFrame(() => input.current?.setSelectionRange(made.length, made.length));
  };
  const whole = text.trim();
  const ready = Boolean(whole) && read?.fault === null && whole !== first.trim();
  const submit = (): void => {
    if (!ready) return;
    void take(whole).then((made) => {
      if (!made) return;
      setText("");
      setAt(0);
    });
  };
  return (
    <div className="rule-field">
      <Combobox.Root
        size="sm"
        collection={collection}
        value={[]}
        inputValue={text}
        inputBehavior="none"
        selectionBehavior="preserve"
        openOnClick
        onOpenChange={(now) => setOpen(now.open)}
        // How the sentence is read stands between the field and the list.
        positioning={{ placement: "bottom-start", gutter: 50 }}
        onInputValueChange={({ inputValue, reason }) => {
          if (reason !== "input-change") return;
          setText(inputValue);
          setAt(input.current?.selectionStart ?? inputValue.length);
        }}
        onValueChange={({ value }) => {
          if (value[0] !== undefined) complete(value[0]);
        }}
      >
        <Combobox.Label>{label}</Combobox.Label>
        <HStack>
          <Combobox.Control flex="1">
            <Combobox.Input
              ref={input}
              className="mono"
              bg="paper"
              placeholder="keep ticketing apart from CCTV"
              aria-describedby="rule-read"
              onSelect={(event) => setAt(event.currentTarget.selectionStart ?? text.length)}
              onKeyDown={(event) => {
                const picking = event.currentTarget.getAttribute("aria-activedescendant");
                if (event.key === "Enter" && !picking) {
                  event.preventDefault();
                  submit();
                }
                if (event.key === "Escape" && !(open && items.length)) leave?.();
              }}
            />
          </Combobox.Control>
          <TakeButton disabled={!ready} onClick={submit}>
            {action}
          </TakeButton>
          {leave && (
            <Button size="xs" variant="outline" onClick={leave}>
              Leave it as it was
            </Button>
          )}
        </HStack>
        <Portal>
          <Combobox.Positioner>
            <Combobox.Content bg="sheet" maxW="360px" display={items.length ? undefined : "none"}>
              {items.map((item) => (
                <Combobox.Item key={item.key} item={item} justifyContent="space-between">
                  <Text className="mono" fontSize="12.5px">
                    {item.value}
                  </Text>
                  <Text fontSize="11px" color="fg.muted">
                    {item.what === "word" ? "" : item.what}
                  </Text>
                </Combobox.Item>
              ))}
            </Combobox.Content>
          </Combobox.Positioner>
        </Portal>
      </Combobox.Root>
      <div id="rule-read" className="rule-read" role="status">
        {error ? (
          <span className="rule-fault">{error.message}</span>
        ) : whole && read ? (
          <Reading text={text} read={read} />
        ) : (
          <Keys>↓ shows what could stand next, Enter takes the rule</Keys>
        )}
      </div>
    </div>
  );
}

/** A sentence with its words and names told apart, and what is wrong with it or how it would fare. */
function Reading({ text, read }: { text: string; read: RuleRead }) {
  return (
    <>
      <span className="rule-sentence mono">
        <Sentence text={text} read={read} />
      </span>
      {read.fault ? (
        <span className="rule-fault">{capital(read.fault.message)}.</span>
      ) : (
        read.told && (
          <HStack gap="1.5" alignItems="baseline">
            <OutcomeMark outcome={read.told.outcome} /> <span>{read.told.text}</span>
          </HStack>
        )
      )}
    </>
  );
}

const capital = (text: string): string => text.charAt(0).toUpperCase() + text.slice(1);

function Sentence({ text, read: { words, fault } }: { text: string; read: RuleRead }): ReactNode {
  const spans = words.map(({ start, end, sort }) => ({ start, end, look: `rule-${sort}` }));
  const last = spans.at(-1)?.end ?? 0;
  if (fault && fault.end > fault.start && fault.start >= last)
    spans.push({ start: fault.start, end: fault.end, look: "rule-wrong" });
  const made: ReactNode[] = [];
  let done = 0;
  for (const { start, end, look } of spans) {
    if (start < done || end > text.length) continue;
    made.push(
      text.slice(done, start),
      <span key={start} className={look}>
        {text.slice(start, end)}
      </span>,
    );
    done = end;
  }
  made.push(text.slice(done));
  return made;
}
