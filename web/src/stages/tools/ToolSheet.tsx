import { Button, Group, Text } from "@mantine/core";
import { useJob } from "../../job/useJob";
import { useView } from "../../job/view";
import { fresh } from "./fresh";
import { MaterialForm } from "./MaterialForm";
import { ToolForm } from "./ToolForm";

/** The job's material and load, and one tool: cutter, assembly, what it is run at; drawn to scale as it is typed. */
export function ToolSheet() {
  const job = useJob();
  const view = useView();
  const tool = job.doc.tools.find((t) => t.number === view.tool) ?? job.doc.tools[0];
  const add = async () => {
    const number = Math.max(0, ...job.doc.tools.map((t) => t.number)) + 1;
    if (!(await job.edit([{ op: "add", path: "tools", value: fresh(number) }], "add tool"))) view.set({ tool: number });
  };
  return (
    <>
      <MaterialForm />
      <Group mb={10}>
        <Button size="xs" variant="default" onClick={add}>
          Add a tool
        </Button>
      </Group>
      {tool ? (
        <ToolForm key={tool.number} tool={tool} />
      ) : (
        <Text className="faint">No tools yet. Add the first one, or take some from the shop's library below.</Text>
      )}
    </>
  );
}
