import {
  Anchor,
  Button,
  Group,
  Modal,
  PasswordInput,
  Select,
  Stack,
  Table,
  Text,
  TextInput,
  Title,
} from "@mantine/core";
import { useQuery, useQueryClient } from "@tanstack/react-query";
import { useState } from "react";
import { Link } from "wouter";
import { api, take } from "../api/client";
import { ROLES, type Role } from "./roles";

/** The accounts of the shop, for the one who runs it. */
export function People() {
  const client = useQueryClient();
  const accounts = useQuery({ queryKey: ["accounts"], queryFn: () => take(api.GET("/api/accounts")), retry: false });
  const [note, setNote] = useState("");
  const [fresh, setFresh] = useState({ name: "", role: "program" as Role, password: "" });
  const [changing, setChanging] = useState("");
  const attempt = async (work: () => Promise<unknown>) => {
    try {
      await work();
      setNote("");
      await client.invalidateQueries({ queryKey: ["accounts"] });
      return true;
    } catch (e) {
      setNote((e as Error).message);
      return false;
    }
  };
  const path = (name: string) => ({ params: { path: { name } } });
  const add = async () => {
    if (await attempt(() => take(api.POST("/api/accounts", { body: fresh }))))
      setFresh({ name: "", role: "program", password: "" });
  };
  return (
    <main className="jobs">
      <Group justify="space-between" mb="md">
        <div>
          <Title order={1} size="h2">
            People
          </Title>
          <Text c="var(--faint)">Who may sign in here, and what for.</Text>
        </div>
        <Anchor component={Link} href="/">
          All jobs
        </Anchor>
      </Group>
      {(note || accounts.error) && (
        <div className="note" role="alert">
          {note || accounts.error?.message}
        </div>
      )}
      <Table>
        <Table.Thead>
          <Table.Tr>
            <Table.Th>Name</Table.Th>
            <Table.Th>May</Table.Th>
            <Table.Th>Since</Table.Th>
            <Table.Th />
          </Table.Tr>
        </Table.Thead>
        <Table.Tbody>
          {(accounts.data ?? []).map((a) => (
            <Table.Tr key={a.name}>
              <Table.Td fw={600}>{a.name}</Table.Td>
              <Table.Td>
                <Select
                  aria-label={`What ${a.name} may`}
                  w={200}
                  data={ROLES}
                  value={a.role}
                  allowDeselect={false}
                  onChange={(role) =>
                    void attempt(() =>
                      take(api.PATCH("/api/accounts/{name}", { ...path(a.name), body: { role: role as Role } })),
                    )
                  }
                />
              </Table.Td>
              <Table.Td>{new Date(a.made_at).toLocaleDateString()}</Table.Td>
              <Table.Td>
                <Group gap={8} justify="flex-end">
                  <Button size="compact-sm" variant="default" onClick={() => setChanging(a.name)}>
                    New password
                  </Button>
                  <Button
                    size="compact-sm"
                    variant="default"
                    onClick={() => void attempt(() => take(api.DELETE("/api/accounts/{name}", path(a.name))))}
                  >
                    Remove
                  </Button>
                </Group>
              </Table.Td>
            </Table.Tr>
          ))}
        </Table.Tbody>
      </Table>
      <form
        onSubmit={(e) => {
          e.preventDefault();
          void add();
        }}
      >
        <Group mt="lg" align="flex-end" gap={8}>
          <TextInput
            label="Name"
            autoComplete="off"
            value={fresh.name}
            onChange={(e) => setFresh({ ...fresh, name: e.currentTarget.value })}
          />
          <PasswordInput
            label="First password"
            description="12 characters or more that are not easily guessed"
            w={300}
            autoComplete="new-password"
            value={fresh.password}
            onChange={(e) => setFresh({ ...fresh, password: e.currentTarget.value })}
          />
          <Select
            label="May"
            w={200}
            data={ROLES}
            value={fresh.role}
            allowDeselect={false}
            onChange={(role) => setFresh({ ...fresh, role: role as Role })}
          />
          <Button type="submit" disabled={!fresh.name || !fresh.password}>
            Add
          </Button>
        </Group>
      </form>
      {changing && (
        <NewPassword
          title={`New password for ${changing}`}
          close={() => setChanging("")}
          send={(password) =>
            take(api.PATCH("/api/accounts/{name}", { ...path(changing), body: { password } })).then(() => undefined)
          }
        />
      )}
    </main>
  );
}

/** Asks for a password, and for the old one where it is one's own. */
export function NewPassword({
  title,
  own = false,
  close,
  send,
}: {
  title: string;
  own?: boolean;
  close: () => void;
  send: (password: string, old: string) => Promise<void>;
}) {
  const [old, setOld] = useState("");
  const [password, setPassword] = useState("");
  const [wrong, setWrong] = useState("");
  const submit = async (e: React.FormEvent) => {
    e.preventDefault();
    try {
      await send(password, old);
      close();
    } catch (error) {
      setWrong((error as Error).message);
    }
  };
  return (
    <Modal opened onClose={close} title={title} centered>
      <form onSubmit={submit}>
        <Stack gap="sm">
          {own && (
            <PasswordInput
              label="Password now"
              autoComplete="current-password"
              value={old}
              onChange={(e) => setOld(e.currentTarget.value)}
            />
          )}
          <PasswordInput
            label="New password"
            description="12 characters or more that are not easily guessed"
            autoComplete="new-password"
            value={password}
            onChange={(e) => setPassword(e.currentTarget.value)}
          />
          {wrong && (
            <Text className="fault" role="alert">
              {wrong}
            </Text>
          )}
          <Button type="submit" disabled={!password || (own && !old)}>
            Change
          </Button>
        </Stack>
      </form>
    </Modal>
  );
}
