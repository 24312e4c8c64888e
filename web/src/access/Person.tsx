import { Button, Menu } from "@mantine/core";
import { useQuery, useQueryClient } from "@tanstack/react-query";
import { useState } from "react";
import { useLocation } from "wouter";
import { api, take } from "../api/client";
import { NewPassword } from "./People";
import { MAY } from "./roles";

/** Who is signed in, and the way out; nothing where nobody has to be. */
export function Person() {
  const client = useQueryClient();
  const [, go] = useLocation();
  const [changing, setChanging] = useState(false);
  const session = useQuery({ queryKey: ["session"], queryFn: () => take(api.GET("/api/session")) });
  const { needed, name, role } = session.data ?? {};
  if (!needed || !name) return null;
  const leave = async () => {
    await take(api.DELETE("/api/session"));
    client.clear();
    window.location.assign("/");
  };
  return (
    <>
      <Menu position="bottom-end">
        <Menu.Target>
          <Button size="compact-sm" variant="subtle" color="gray">
            {name}
          </Button>
        </Menu.Target>
        <Menu.Dropdown>
          <Menu.Label>
            {name} {role && MAY[role]}
          </Menu.Label>
          {role === "run" && <Menu.Item onClick={() => go("/people")}>People</Menu.Item>}
          <Menu.Item onClick={() => setChanging(true)}>Change password</Menu.Item>
          <Menu.Item onClick={() => void leave()}>Sign out</Menu.Item>
        </Menu.Dropdown>
      </Menu>
      {changing && (
        <NewPassword
          title="Change password"
          own
          close={() => setChanging(false)}
          send={(fresh, old) =>
            take(api.PUT("/api/session/password", { body: { old, new: fresh } })).then(() => undefined)
          }
        />
      )}
    </>
  );
}
