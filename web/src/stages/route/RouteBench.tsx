import { Tabs } from "@mantine/core";
import { useState } from "react";
import { useFinish } from "../../job/queries";
import { useView } from "../../job/view";
import { HoleTable } from "../part/HoleTable";
import { LeftOver } from "./LeftOver";
import { RouteTable } from "./RouteTable";

/** Under the route: its sheet, the part's holes, and what no operation makes. */
export function RouteBench() {
  const [tab, setTab] = useState<string | null>("route"); // what is left over is kept in the address: the part shows it
  const { set, leftOver } = useView();
  const left = useFinish().data?.left_over.length ?? 0;
  return (
    <Tabs
      value={leftOver ? "left" : tab}
      onChange={(to) => {
        set({ leftOver: to === "left" });
        if (to !== "left") setTab(to);
      }}
      keepMounted={false}
      className="tabs"
    >
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
