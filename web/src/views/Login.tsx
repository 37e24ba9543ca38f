import { Box, Button, Center, Field, Heading, Input, Stack, Text } from "@chakra-ui/react";
import { useMutation, useQueryClient } from "@tanstack/react-query";
import { useState } from "react";

import { api, unwrap } from "../api/client";
import { Logo } from "../shell/Logo";

export function Login() {
  const queries = useQueryClient();
  const [username, setUsername] = useState("");
  const [password, setPassword] = useState("");
  const login = useMutation({
    mutationFn: async () => unwrap(await api.POST("/api/session", { body: { username, password } })),
    onSuccess: (session) => queries.setQueryData(["session"], session),
  });
  return (
    <Center as="main" minH="100%" p="6">
      <Box w="340px">
        <Stack gap="1" mb="6">
          <Logo size={34} />
          <Heading as="h1" size="2xl" fontWeight="600">
            Apt Wire
          </Heading>
          <Text color="fg.muted">Every guest adapter on the segment where it belongs, proved hop by hop.</Text>
        </Stack>
        <form
          onSubmit={(event) => {
            event.preventDefault();
            login.mutate();
          }}
        >
          <Stack gap="4">
            <Field.Root>
              <Field.Label>Name</Field.Label>
              <Input value={username} onChange={(e) => setUsername(e.target.value)} autoComplete="username" autoFocus />
            </Field.Root>
            <Field.Root invalid={login.isError}>
              <Field.Label>Password</Field.Label>
              <Input
                type="password"
                value={password}
                onChange={(e) => setPassword(e.target.value)}
                autoComplete="current-password"
              />
              <Field.ErrorText role="alert" color="var(--v-exposed)">
                {login.error?.message}
              </Field.ErrorText>
            </Field.Root>
            <Button type="submit" colorPalette="copper" loading={login.isPending} disabled={!username || !password}>
              Log in
            </Button>
          </Stack>
        </form>
      </Box>
    </Center>
  );
}
