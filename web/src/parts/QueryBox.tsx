import { Box, Input } from "@chakra-ui/react";
import { useId, useMemo } from "react";

import { usePlan } from "../api/plan";
import { goOn, readQuery } from "../model/query";

/** A field for a query: words, and field:value pairs that are completed while one types. */
export function QueryBox({
  label,
  value,
  put,
  placeholder,
  width,
}: {
  label: string;
  value: string;
  put: (value: string) => void;
  placeholder: string;
  width: string;
}) {
  const { book } = usePlan();
  const list = useId();
  const ways = useMemo(() => goOn(value, book), [value, book]);
  const { wrong } = useMemo(() => readQuery(value), [value]);
  return (
    <Box position="relative" flex={`0 1 ${width}`} minW="110px">
      <Input
        size="xs"
        height="7"
        bg="sheet"
        aria-label={label}
        aria-invalid={wrong.length > 0}
        aria-describedby={wrong.length ? `${list}-wrong` : undefined}
        title="Words, and role:storage vid:200-299 verdict:wavering host: site: segment: guest: pattern:off"
        placeholder={placeholder}
        list={list}
        autoComplete="off"
        value={value}
        onChange={(event) => put(event.target.value)}
      />
      <datalist id={list}>
        {ways.map((way) => (
          <option key={way} value={way} />
        ))}
      </datalist>
      {wrong.length > 0 && (
        <Box
          id={`${list}-wrong`}
          role="alert"
          position="absolute"
          top="100%"
          zIndex="5"
          minW="300px"
          px="2"
          py="1"
          fontSize="12px"
          bg="var(--bad-soft)"
          color="var(--v-exposed)"
        >
          {wrong.join("; ")}
        </Box>
      )}
    </Box>
  );
}
