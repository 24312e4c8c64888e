import { Button, Modal, PasswordInput, Stack, Text, TextInput } from "@mantine/core";
import { useQueryClient } from "@tanstack/react-query";
import { useState, useSyncExternalStore } from "react";
import { api, take } from "../api/client";
import { isAsked, signedIn, watchSigning } from "./signing";

/** Stands over whatever is open when the server asks who is there; what was being done goes on afterwards. */
export function SignIn() {
  const asked = useSyncExternalStore(watchSigning, isAsked);
  const client = useQueryClient();
  const [name, setName] = useState("");
  const [password, setPassword] = useState("");
  const [wrong, setWrong] = useState("");
  const [busy, setBusy] = useState(false);
  if (!asked) return null;

  const send = async (e: React.FormEvent) => {
    e.preventDefault();
    setBusy(true);
    try {
      await take(api.POST("/api/session", { body: { name, password } }));
      setPassword("");
      setWrong("");
      signedIn();
      void client.invalidateQueries({ queryKey: ["session"] });
    } catch (error) {
      setWrong((error as Error).message);
    } finally {
      setBusy(false);
    }
  };

  return (
    <Modal opened onClose={() => undefined} withCloseButton={false} centered title="Who is there?" zIndex={1000}>
      <form onSubmit={send}>
        <Stack gap="sm">
          <Text className="faint">What you were doing stays as it is and goes on when you are in.</Text>
          <TextInput
            label="Name"
            name="username"
            autoComplete="username"
            value={name}
            onChange={(e) => setName(e.currentTarget.value)}
            data-autofocus
          />
          <PasswordInput
            label="Password"
            name="password"
            autoComplete="current-password"
            value={password}
            onChange={(e) => setPassword(e.currentTarget.value)}
          />
          {wrong && (
            <Text className="fault" role="alert">
              {wrong}
            </Text>
          )}
          <Button type="submit" loading={busy} disabled={!name || !password}>
            Come in
          </Button>
        </Stack>
      </form>
    </Modal>
  );
}
