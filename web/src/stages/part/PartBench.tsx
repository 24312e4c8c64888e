import { Tabs } from "@mantine/core";
import { useState } from "react";
import { Bodies } from "./Bodies";
import { Changes } from "./Changes";
import { Features } from "./Features";
import { Health } from "./Health";
import { Sketches } from "./Sketches";

/** Under the part: its features, bodies, health, what changed, and construction geometry. */
export function PartBench() {
  const [tab, setTab] = useState<string | null>("features");
  return (
    <Tabs value={tab} onChange={setTab} keepMounted={false} className="tabs">
      <Tabs.List>
        {["features", "bodies", "health", "changes", "sketches"].map((t) => (
          <Tabs.Tab key={t} value={t}>
            {t[0].toUpperCase() + t.slice(1)}
          </Tabs.Tab>
        ))}
      </Tabs.List>
      <Tabs.Panel value="features">
        <Features />
      </Tabs.Panel>
      <Tabs.Panel value="bodies">
        <Bodies />
      </Tabs.Panel>
      <Tabs.Panel value="health">
        <Health />
      </Tabs.Panel>
      <Tabs.Panel value="changes">
        <Changes />
      </Tabs.Panel>
      <Tabs.Panel value="sketches">
        <Sketches />
      </Tabs.Panel>
    </Tabs>
  );
}
