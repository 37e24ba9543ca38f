import { Box, Button, HStack, Text } from "@chakra-ui/react";
import { useState } from "react";

import { useActions, useGesture, usePresence } from "../api/plan";
import { Outcome } from "../decks/Panel";
import { LinkButton, TakeButton, Told } from "./controls";

/** As many findings are mended at once. */
const MOST = 40;

/** The first mend of every finding in sight by which nobody fares worse, as one edit that is previewed. */
export function MendAll({ findings, which = "in sight" }: { findings: string[]; which?: string }) {
  const { gesture } = useActions();
  const { busy } = usePresence();
  const [asked, setAsked] = useState<string[] | null>(null);
  const seen = useGesture("mend-all", { findings: asked ?? [] }, asked !== null);
  const chosen = findings.slice(0, MOST);
  if (!asked)
    return (
      <Button
        size="xs"
        height="7"
        variant="outline"
        disabled={!chosen.length}
        title={findings.length > MOST ? `The first ${MOST} of ${findings.length} findings ${which}` : undefined}
        onClick={() => setAsked(chosen)}
      >
        Mend {chosen.length === 1 ? "the finding" : `${chosen.length} findings`} {which}
      </Button>
    );
  const count = asked.length === 1 ? "The first mend of one finding" : `The first mends of ${asked.length} findings`;
  return (
    <Box
      role="group"
      aria-label={`Mend all ${which}`}
      flexBasis="100%"
      bg="sheet"
      borderWidth="1px"
      rounded="md"
      px="3"
      py="2"
    >
      <Text>
        {count}, each tried on what the ones before it make of the plan; one that makes anybody worse off isn’t taken.
      </Text>
      {seen.error ? (
        <Told tone="bad">{seen.error.message}</Told>
      ) : !seen.data ? (
        <div role="status">
          <Told tone="quiet">Trying them one after the other…</Told>
        </div>
      ) : (
        <>
          <Text fontWeight="600" mt="1">
            {seen.data.message}
          </Text>
          <Outcome result={seen.data.preview ?? undefined} />
        </>
      )}
      <HStack gap="3">
        <TakeButton
          disabled={!seen.data || busy}
          onClick={() => void gesture("mend-all", { findings: asked }).then((made) => made && setAsked(null))}
        >
          Take them
        </TakeButton>
        <LinkButton onClick={() => setAsked(null)}>Leave it</LinkButton>
      </HStack>
    </Box>
  );
}
