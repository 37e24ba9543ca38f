import { Box, Button, Flex, HStack, Text } from "@chakra-ui/react";
import { useQueryClient } from "@tanstack/react-query";
import { Moon } from "lucide-react";
import type { ReactNode } from "react";
import { Link } from "react-router";

import { api } from "../api/client";
import { toggleMode } from "../theme";
import "./shell.css";

import { Logo } from "./Logo";

/** A page outside a plan: the bar and a column of content. */
export function Page({ user, children }: { user: string; children: ReactNode }) {
  const queries = useQueryClient();
  return (
    <Flex direction="column" h="100%">
      <header className="topbar">
        <Link to="/plans" className="brand">
          <Logo /> <span>Apt Wire</span>
        </Link>
        <span className="spring" />
        <button
          type="button"
          className="bar-button"
          onClick={toggleMode}
          aria-label="Light or dark"
          title="Light or dark"
        >
          <Moon size={15} />
        </button>
        <HStack gap="3">
          <Text fontSize="sm">{user}</Text>
          <Button
            size="xs"
            variant="outline"
            color="var(--bar-ink)"
            borderColor="var(--bar-line)"
            _hover={{ bg: "var(--bar-line)" }}
            onClick={() => void api.DELETE("/api/session").then(() => queries.resetQueries({ queryKey: ["session"] }))}
          >
            Log out
          </Button>
        </HStack>
      </header>
      <Box as="main" flex="1" overflow="auto" px="6" py="8">
        <Box maxW="960px" mx="auto">
          {children}
        </Box>
      </Box>
    </Flex>
  );
}
