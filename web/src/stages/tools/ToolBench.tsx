import { Tabs } from "@mantine/core";
import { useState } from "react";
import { JobTools } from "./JobTools";
import { ShopTools } from "./ShopTools";

/** The job's own tools, and the shop's library to take from. */
export function ToolBench() {
  const [tab, setTab] = useState<string | null>("job");
  return (
    <Tabs value={tab} onChange={setTab} keepMounted={false} className="tabs">
      <Tabs.List>
        <Tabs.Tab value="job">In this job</Tabs.Tab>
        <Tabs.Tab value="shop">Shop library</Tabs.Tab>
      </Tabs.List>
      <Tabs.Panel value="job">
        <JobTools />
      </Tabs.Panel>
      <Tabs.Panel value="shop">
        <ShopTools />
      </Tabs.Panel>
    </Tabs>
  );
}
