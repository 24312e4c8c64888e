import { Tabs } from "@mantine/core";
import { useState } from "react";
import { useFinish } from "../../job/queries";
import { HoleTable } from "../part/HoleTable";
import { LeftOver } from "./LeftOver";
import { RouteTable } from "./RouteTable";

/** Under the route: its sheet, the part's holes, and what no operation makes. */
export function RouteBench() {
  const [tab, setTab] = useState<string | null>("route");
  const left = useFinish().data?.left_over.length ?? 0;
  return (
    <Tabs value={tab} onChange={setTab} keepMounted={false} className="tabs">
      <Tabs.List>
        <Tabs.Tab value="route">Route sheet</Tabs.Tab>
        <Tabs.Tab value="holes">Holes</Tabs.Tab>
        <Tabs.Tab value="left">Left over{left > 0 ? ` (${left})` : ""}</Tabs.Tab>
      </Tabs.List>
      <Tabs.Panel value="route">
        <RouteTable />
      </Tabs.Panel>
      <Tabs.Panel value="holes">
        <HoleTable />
      </Tabs.Panel>
      <Tabs.Panel value="left">
        <LeftOver />
      </Tabs.Panel>
    </Tabs>
  );
}
