import { Box, Button, Checkbox, Field, HStack, Input, NativeSelect, Text, type ButtonProps } from "@chakra-ui/react";
import type { ReactNode, Ref } from "react";

/** A button within text or a list. */
export const LinkButton = (props: ButtonProps) => (
  <Button
    variant="plain"
    height="auto"
    minW="0"
    p="0"
    color="copper.fg"
    textDecoration="underline"
    fontWeight="400"
    fontSize="12px"
    lineHeight="1.4"
    whiteSpace="normal"
    textAlign="start"
    overflowWrap="anywhere"
    {...props}
  />
);

/** The button that takes what a form says. */
export const TakeButton = (props: ButtonProps) => (
  <Button className="takes" size="xs" height="7" px="3" colorPalette="copper" {...props} />
);

/** What belongs to something, in the second rank. */
export const Quiet = (props: { children: ReactNode }) => <Text color="fg.muted" {...props} />;

/** The keys that act here. */
export const Keys = ({ children }: { children: ReactNode }) => (
  <Text color="fg.muted" fontSize="11px">
    {children}
  </Text>
);

/** The buttons at the end of a form, which stay in sight while it scrolls. */
export const Taking = ({ children, keys }: { children: ReactNode; keys?: ReactNode }) => (
  <HStack gap="2.5" position="sticky" bottom="-2.5" bg="sheet" py="2">
    {children}
    {keys && <Keys>{keys}</Keys>}
  </HStack>
);

/** What would come of it: better, worse, or not possible at all. */
export function Told({ tone, children }: { tone?: "better" | "worse" | "bad" | "quiet"; children: ReactNode }) {
  const bad = tone === "worse" || tone === "bad";
  return (
    <Box
      my="2"
      px="2"
      py="1"
      rounded="md"
      whiteSpace="pre-line"
      overflowWrap="anywhere"
      bg={bad ? "var(--bad-soft)" : tone === "better" ? "var(--good-soft)" : "shade"}
      color={bad ? "var(--v-exposed)" : tone === "better" ? "var(--v-home)" : tone === "quiet" ? "fg.muted" : undefined}
      fontWeight={bad || tone === "better" ? "600" : undefined}
      className="told"
    >
      {children}
    </Box>
  );
}

interface Labelled {
  label: string;
  /** The room for labels, which is the same all through a form. */
  wide?: string;
}

const Line = ({ label, wide = "92px", children }: Labelled & { children: ReactNode }) => (
  <Field.Root orientation="horizontal" gap="2" mb="1.5" alignItems="center">
    <Field.Label flex={`0 0 ${wide}`} fontSize="12.5px" fontWeight="400" whiteSpace="normal">
      {label}
    </Field.Label>
    {children}
  </Field.Root>
);

const LOOK = { size: "xs", height: "7", px: "1.5", bg: "paper", fontSize: "12.5px" } as const;

/** A line of a form into which something is typed. */
export function TextLine({
  value,
  put,
  hint,
  numeric,
  plain,
  hold,
  list,
  ...line
}: Labelled & {
  value: string;
  put: (value: string) => void;
  hint?: string;
  numeric?: boolean;
  /** In the letters of text rather than those of what is configured. */
  plain?: boolean;
  hold?: Ref<HTMLInputElement>;
  list?: string;
}) {
  return (
    <Line {...line}>
      <Input
        {...LOOK}
        ref={hold}
        className={plain ? undefined : "mono"}
        value={value}
        placeholder={hint}
        inputMode={numeric ? "numeric" : undefined}
        list={list}
        onChange={(event) => put(event.target.value)}
      />
    </Line>
  );
}

/** A line of a form in which one of a few is chosen. */
export function ChoiceLine({
  value,
  put,
  options,
  hold,
  ...line
}: Labelled & {
  value: string;
  put: (value: string) => void;
  options: readonly (readonly [string, string])[];
  hold?: Ref<HTMLSelectElement>;
}) {
  return (
    <Line {...line}>
      <NativeSelect.Root size="xs">
        <NativeSelect.Field
          height="7"
          bg="paper"
          fontSize="12.5px"
          ref={hold}
          value={value}
          onChange={(event) => put(event.target.value)}
        >
          {options.map(([key, text]) => (
            <option key={key} value={key}>
              {text}
            </option>
          ))}
        </NativeSelect.Field>
        <NativeSelect.Indicator />
      </NativeSelect.Root>
    </Line>
  );
}

/** A line of a form that says yes or no. */
export function FlagLine({
  label,
  wide = "92px",
  value,
  put,
  hold,
}: Labelled & { value: boolean; put: (value: boolean) => void; hold?: Ref<HTMLInputElement> }) {
  return (
    <Checkbox.Root
      size="sm"
      display="flex"
      gap="2"
      mb="1.5"
      minH="6"
      checked={value}
      onCheckedChange={({ checked }) => put(checked === true)}
    >
      <Checkbox.HiddenInput ref={hold} />
      <Checkbox.Label flex={`0 0 ${wide}`} fontSize="12.5px" fontWeight="400">
        {label}
      </Checkbox.Label>
      <Checkbox.Control />
    </Checkbox.Root>
  );
}

/** Some of several, each with a box to tick. */
export function CheckList({
  label,
  options,
  picked,
  pick,
}: {
  label: string;
  /** Keys with what is said of them. */
  options: readonly (readonly [string, string])[];
  picked: readonly string[];
  pick: (keys: readonly string[]) => void;
}) {
  return (
    <HStack as="ul" listStyleType="none" wrap="wrap" gap="3" my="1" aria-label={label}>
      {options.map(([key, text]) => (
        <li key={key}>
          <Checkbox.Root
            size="sm"
            checked={picked.includes(key)}
            onCheckedChange={({ checked }) => pick(checked ? [...picked, key] : picked.filter((one) => one !== key))}
          >
            <Checkbox.HiddenInput />
            <Checkbox.Control />
            <Checkbox.Label fontSize="12.5px">{text}</Checkbox.Label>
          </Checkbox.Root>
        </li>
      ))}
    </HStack>
  );
}
