import { Button, HStack, Text } from "@chakra-ui/react";
import { useEffect, useRef } from "react";

import type { NextStep } from "./nextStep";

/** What to do next, with a button that has the focus as soon as the step before is taken, so that Enter goes on. */
export function NextStepBar({ step, idle, take }: { step: NextStep; idle: boolean; take: () => void }) {
  const button = useRef<HTMLButtonElement>(null);
  useEffect(() => {
    if (!idle) return;
    // A frame later, once whatever was open has given the focus back.
    const frame = requestAnimationFrame(() => {
      if (!document.activeElement?.closest("input, select, [role=dialog]")) button.current?.focus();
    });
    return () => cancelAnimationFrame(frame);
  }, [step.button, idle]);
  return (
    <HStack as="section" aria-label="Next step" px="3" py="1.5" bg="shade" borderBottomWidth="1px">
      <Text fontSize="sm">{step.text}</Text>
      <Button ref={button} size="2xs" colorPalette="copper" onClick={take}>
        {step.button}
      </Button>
    </HStack>
  );
}
