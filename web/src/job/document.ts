/** The job document as the interface sees it (the server checks it; see `fenrik schema`). */
export type Vec = [number, number, number];
export type FaceSelector = { kind: string; area_mm2: number; centroid: Vec; normal: Vec; radius_mm: number | null; neighbours: number } | { normal: Vec; at_z?: number | null };
export type HolderSection = { lower_diameter_mm: number; upper_diameter_mm: number; height_mm: number };
export type Cutter = { kind: "flat" | "ball" | "bull-nose"; diameter_mm: number; flute_length_mm: number; flutes: number; centre_cutting: boolean; corner_radius_mm?: number };
export type Tool = {
  number: number; name: string; cutter: Cutter; shank_diameter_mm: number | null; stick_out_mm: number; holder: HolderSection[];
  spindle_rpm: number; cutting_feed_mm_min: number; entry_feed_mm_min: number; exit_feed_mm_min: number; coolant: boolean;
};
export type Setup = {
  id: string; name: string; up: { kind: "axis"; axis: string } | { kind: "face"; face: FaceSelector }; spin_deg: number;
  stock: Record<string, number | string>;
  work_zero: { kind: "box point"; of: "stock" | "part"; at: Vec } | { kind: "point"; of: "vertex" | "hole centre"; place: Vec };
  work_offset: number; machine: string; dialect: string; clearance_mm: number; retract_mm: number;
};
export type Params = { strategy: string; allowance_mm: number; floor_allowance_mm: number; tolerance_mm: number; [field: string]: unknown };
export type Operation = { number: number; name: string; enabled: boolean; setup: string; tool: number; params: Params; spindle_rpm: number | null; cutting_feed_mm_min: number | null };
export type JobDocument = {
  name: string; part: { file: string; scale: number } | null; machines: { name: string }[]; tools: Tool[]; setups: Setup[];
  operations: Operation[]; proof: { near_miss_mm: number; band_mm: number }; cell_mm: number | null;
};

export const toolLabel = (t: Tool | undefined): string => {
  if (!t) return "–";
  const c = t.cutter;
  return t.name || `${c.kind} ⌀${c.diameter_mm}${c.kind === "bull-nose" ? ` r${c.corner_radius_mm}` : ""}`;
};
