import { Group, Select, Slider, Text } from "@mantine/core";
import { useQuery } from "@tanstack/react-query";
import { useEffect, useState } from "react";
import { api, take } from "../../api/client";
import { useTables } from "../../job/queries";
import { useJob } from "../../job/useJob";

/** What is cut: a material of the job or the shop. */
export function MaterialChoice() {
  const job = useJob();
  const shop = useQuery({ queryKey: ["materials"], queryFn: () => take(api.GET("/api/library/materials")) });
  const known = [
    ...job.doc.materials,
    ...(shop.data ?? []).filter((m) => !job.doc.materials.some((d) => d.name === m.name)),
  ];
  const choose = (name: string | null) => {
    const taken = shop.data?.find((m) => m.name === name);
    const missing = name && !job.doc.materials.some((m) => m.name === name);
    return job.edit(
      [
        ...(missing ? [{ op: "add" as const, path: "materials", value: taken }] : []),
        { path: "material", value: name ?? "", was: job.doc.material },
      ],
      "material",
    );
  };
  return (
    <Select
      size="xs"
      mb={6}
      aria-label="Material"
      placeholder="Choose the material"
      searchable
      value={job.doc.material || null}
      data={known.map((m) => ({ value: m.name, label: `${m.group} · ${m.name}` }))}
      onChange={choose}
    />
  );
}

/** What is cut, and how hard. */
export function MaterialForm() {
  const job = useJob();
  const groups = (useTables().data as { groups?: Record<string, string> } | undefined)?.groups ?? {};
  const [load, setLoad] = useState(job.doc.load);
  useEffect(() => setLoad(job.doc.load), [job.doc.load]);
  const own = job.doc.materials.find((m) => m.name === job.doc.material);
  return (
    <fieldset>
      <legend>Material and load</legend>
      <MaterialChoice />
      {own && (
        <Text className="faint" mt={4}>
          {own.group}, {groups[own.group]}: {own.hardness_hb} HB, kc1.1 {own.kc11_n_mm2} N/mm², mc {own.mc}
        </Text>
      )}
      <Group gap={10} mt={6} wrap="nowrap">
        <Text className="faint">cautious</Text>
        <Slider
          style={{ flex: 1 }}
          size="xs"
          min={0}
          max={1}
          step={0.05}
          label={(v) => `${Math.round(100 * v)} %`}
          thumbLabel="Load"
          value={load}
          onChange={setLoad}
          onChangeEnd={(v) => v !== job.doc.load && job.edit([{ path: "load", value: v, was: job.doc.load }], "load")}
        />
        <Text className="faint">hard</Text>
      </Group>
    </fieldset>
  );
}
