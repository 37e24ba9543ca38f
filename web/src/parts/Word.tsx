import { Tooltip } from "@chakra-ui/react";
import { memo } from "react";

import { GLOSSARY } from "../model/glossary";

/** A word of ours, which says what it means when it is pointed at or focused. */
export const Word = memo(function Word({ word }: { word: keyof typeof GLOSSARY }) {
  return (
    <Tooltip.Root openDelay={250} closeDelay={100} positioning={{ placement: "bottom-start", strategy: "fixed" }}>
      <Tooltip.Trigger asChild>
        <span tabIndex={0}>{word}</span>
      </Tooltip.Trigger>
      {/* Where the word stands, so that it belongs to the same part of the page. */}
      <Tooltip.Positioner>
        <Tooltip.Content maxW="250px" bg="ink" color="paper">
          {GLOSSARY[word]}
        </Tooltip.Content>
      </Tooltip.Positioner>
    </Tooltip.Root>
  );
});
