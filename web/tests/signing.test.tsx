// @vitest-environment jsdom
import { server, show } from "./screen";
import { cleanup, fireEvent, screen, waitFor } from "@testing-library/react";
import { afterEach, describe, expect, it } from "vitest";
import { People } from "../src/access/People";
import { Person } from "../src/access/Person";
import { SignIn } from "../src/access/SignIn";
import { api, take } from "../src/api/client";

afterEach(cleanup);

const refused = (status: number, title: string) => Response.json({ title, status }, { status });
const type = (label: string, value: string) => fireEvent.change(screen.getByLabelText(label), { target: { value } });

describe("signing in", () => {
  it("is asked for where the server does not know who is there, and what was asked goes on afterwards", async () => {
    let known = false;
    const asked = server({
      "PATCH /api/jobs/j": () => (known ? { id: "j", version: 2 } : refused(401, "Nobody is signed in here.")),
      "POST /api/session": (body) => {
        known = (body as { password: string }).password === "right";
        return known ? { needed: true, name: "ben", role: "program" } : refused(422, "wrong");
      },
    });
    show(<SignIn />);
    expect(screen.queryByRole("dialog")).toBeNull();
    const changed = [1, 2].map(() =>
      take(
        api.PATCH("/api/jobs/{job_id}", {
          params: { path: { job_id: "j" } },
          body: { label: "name", changes: [{ op: "set", path: "name", value: "typed", check: true }] },
        }),
      ),
    );
    await screen.findByRole("dialog");
    type("Name", "ben");
    type("Password", "guessed");
    fireEvent.click(screen.getByRole("button", { name: "Come in" }));
    expect(await screen.findByRole("alert")).toBeTruthy();
    type("Password", "right");
    fireEvent.click(screen.getByRole("button", { name: "Come in" }));
    expect((await Promise.all(changed)).map((c) => c.version)).toEqual([2, 2]);
    await waitFor(() => expect(screen.queryByRole("dialog")).toBeNull());
    const sent = asked.filter((a) => a.what === "PATCH /api/jobs/j");
    // Each was sent twice, with what was typed both times.
    expect(sent.map((a) => (a.body as { changes: { value: string }[] }).changes[0].value)).toEqual(
      Array(4).fill("typed"),
    );
  });

  it("shows nobody where nobody has to sign in", async () => {
    const asked = server({ "GET /api/session": () => ({ needed: false, name: "", role: "run" }) });
    show(<Person />);
    await waitFor(() => expect(asked.length).toBe(1));
    expect(screen.queryByRole("button")).toBeNull();
  });

  it("lets only the one who runs the shop to the accounts", async () => {
    for (const [role, there] of [
      ["program", false],
      ["run", true],
    ] as const) {
      server({ "GET /api/session": () => ({ needed: true, name: "ada", role }) });
      show(<Person />);
      fireEvent.click(await screen.findByRole("button", { name: "ada" }));
      await screen.findByText("Sign out");
      expect(!!screen.queryByText("People")).toBe(there);
      cleanup();
    }
  });
});

describe("the accounts of the shop", () => {
  it("are listed, made and changed, and what is refused is told", async () => {
    const rows = [{ name: "ada", role: "run", made_at: "2026-01-01T00:00:00Z" }];
    const asked = server({
      "GET /api/accounts": () => rows,
      "POST /api/accounts": (body) => {
        const fresh = body as { name: string; role: string; password: string };
        if (fresh.password.length < 12) return refused(422, "too short");
        rows.push({ name: fresh.name, role: fresh.role, made_at: "2026-01-02T00:00:00Z" });
        return rows;
      },
      "DELETE /api/accounts/ada": () => refused(422, "would leave nobody who runs the shop."),
    });
    show(<People />);
    await screen.findByText("ada");
    type("Name", "finn");
    type("First password", "short");
    fireEvent.click(screen.getByRole("button", { name: "Add" }));
    expect((await screen.findByRole("alert")).textContent).toContain("too short");
    type("First password", "kelp and cobalt forty");
    fireEvent.click(screen.getByRole("button", { name: "Add" }));
    expect(await screen.findByText("finn")).toBeTruthy();
    expect(screen.queryByRole("alert")).toBeNull();
    expect(asked.at(-2)!.body).toEqual({ name: "finn", role: "program", password: "kelp and cobalt forty" });
    fireEvent.click(screen.getAllByRole("button", { name: "Remove" })[0]);
    expect((await screen.findByRole("alert")).textContent).toContain("nobody who runs the shop");
  });
});
