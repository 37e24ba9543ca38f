import { Combobox, createListCollection, HStack, Portal, Text } from "@chakra-ui/react";
import { memo, useMemo, useState } from "react";

export interface Choice {
  value: string;
  label: string;
  detail: string;
  /** What a search may match, in lower case. */
  text: string;
}

/** As many choices are shown as somebody might read. */
const MOST = 40;

/** The choices in which every word that was typed stands. */
export function matching(choices: readonly Choice[], typed: string): Choice[] {
  const words = typed.toLowerCase().split(/\s+/).filter(Boolean);
  const found: Choice[] = [];
  for (const choice of choices) {
    if (words.every((word) => choice.text.includes(word))) found.push(choice);
    if (found.length === MOST) break;
  }
  return found;
}

/** Scrolls a choice into sight, where there is one: to scroll an empty list would lay out the whole page. */
function seen({ getElement }: { getElement: () => HTMLElement | null }): void {
  getElement()?.scrollIntoView({ block: "nearest" });
}

/** A field in which one of many is found by typing any part of it; `find` stays the same function as long as it can. */
export const SearchBox = memo(function SearchBox({
  label,
  value,
  said,
  find,
  put,
  placeholder,
  empty,
  width = "340px",
  size = "sm",
  wide,
}: {
  label: string;
  value: string;
  /** What is chosen, as people call it. */
  said: string;
  find: (typed: string) => Choice[];
  put: (value: string) => void;
  placeholder: string;
  empty: string;
  width?: string;
  size?: "xs" | "sm";
  /** The room for labels, where it is a line of a form. */
  wide?: string;
}) {
  const [typed, setTyped] = useState<string | null>(null);
  // Most lists are never opened, and forty choices take as long to draw as much of a page.
  const [opened, setOpened] = useState(false);
  const found = useMemo(() => find(typed ?? ""), [find, typed]);
  const collection = useMemo(() => createListCollection({ items: found, itemToString: (c) => c.label }), [found]);
  const exact = (text: string): boolean => found.some((choice) => choice.value === text);
  return (
    <Combobox.Root
      size={size}
      width={width}
      flex="none"
      collection={collection}
      value={value ? [value] : []}
      inputValue={typed ?? said}
      inputBehavior="autohighlight"
      selectionBehavior="preserve"
      openOnClick
      scrollToIndexFn={seen}
      onInputValueChange={({ inputValue, reason }) => {
        if (reason !== "input-change" && reason !== "clear-trigger") return;
        setTyped(inputValue);
        if (!inputValue) put("");
      }}
      onValueChange={({ value: taken }) => {
        setTyped(null);
        if (taken[0] !== undefined) put(taken[0]);
      }}
      onOpenChange={({ open }) => {
        if (open) return setOpened(true);
        if (typed !== null && exact(typed)) put(typed);
        setTyped(null);
      }}
    >
      <HStack mb={wide && "1.5"}>
        <Combobox.Label m="0" {...(wide && { flex: `0 0 ${wide}`, fontSize: "12.5px", fontWeight: "400" })}>
          {label}
        </Combobox.Label>
        <Combobox.Control flex="1">
          {/* The list hears Escape a frame after it opened; what was typed goes with the key, whenever it comes. */}
          <Combobox.Input
            placeholder={placeholder}
            onKeyDown={(event) => {
              if (event.key === "Escape") setTyped(null);
            }}
          />
          <Combobox.IndicatorGroup>
            <Combobox.ClearTrigger aria-label={`Nothing in ${label}`} />
            <Combobox.Trigger aria-label={`All choices for ${label}`} />
          </Combobox.IndicatorGroup>
        </Combobox.Control>
      </HStack>
      <Portal>
        <Combobox.Positioner>
          <Combobox.Content bg="sheet" minW="280px">
            <Combobox.Empty>{empty}</Combobox.Empty>
            {opened &&
              found.map((choice) => (
                <Combobox.Item key={choice.value} item={choice} flexDirection="column" alignItems="start" gap="0">
                  <Text>{choice.label}</Text>
                  <Text className="mono" fontSize="xs" color="fg.muted" overflowWrap="anywhere">
                    {choice.detail}
                  </Text>
                </Combobox.Item>
              ))}
          </Combobox.Content>
        </Combobox.Positioner>
      </Portal>
    </Combobox.Root>
  );
});
