/** The job document as the interface sees it (the server checks it; see `fenrik schema`). */
export type Vec = [number, number, number];
export type FaceReference = {
  kind: string;
  area_mm2: number;
  centroid: Vec;
  normal: Vec;
  radius_mm: number | null;
  neighbours: number;
};
export type FaceRule = {
  normal?: Vec | null;
  at_z?: number | null;
  surface?: string | null;
  radius_mm?: number | null;
  concave?: boolean | null;
  colour?: string | null;
};
export type EdgeReference = { edge: string; length_mm: number; middle: Vec; radius_mm: number | null };
export type FaceSelector = FaceReference | FaceRule;
export type Selector = FaceSelector | EdgeReference;
export type HolderSection = { lower_diameter_mm: number; upper_diameter_mm: number; height_mm: number };
export type Cutter = {
  kind: string;
  diameter_mm: number;
  flute_length_mm: number;
  flutes: number;
  centre_cutting: boolean;
  corner_radius_mm?: number;
  [field: string]: unknown;
};
export type Tool = {
  number: number;
  name: string;
  cutter: Cutter;
  material: string;
  coating: string;
  use: string;
  shank_diameter_mm: number | null;
  neck_diameter_mm: number | null;
  neck_length_mm: number;
  length_mm: number | null;
  stick_out_mm: number;
  holder_name: string;
  holder: HolderSection[];
  length_offset: number | null;
  diameter_offset: number | null;
  spindle_rpm: number;
  cutting_feed_mm_min: number;
  entry_feed_mm_min: number;
  exit_feed_mm_min: number;
  coolant: boolean;
};
export type Up =
  | { kind: "axis"; axis: string }
  | { kind: "face"; face: FaceSelector }
  | { kind: "edge"; edge: EdgeReference }
  | { kind: "points"; points: [Vec, Vec, Vec] }
  | { kind: "direction"; direction: Vec; came_from: string };
export type Place = { x_mm: number; y_mm: number; z_mm: number; turn_deg: number };
export type Fixture = { kind: string; id: string; name: string; place: Place; [field: string]: unknown };
export type Kinded = { kind: string; [field: string]: unknown };
export type Setup = {
  id: string;
  name: string;
  makes: string;
  up: Up;
  flip: boolean;
  x_along: EdgeReference | null;
  spin_deg: number;
  stock: Kinded;
  grid: Record<string, unknown> | null;
  fixtures: Fixture[];
  work_zero:
    { kind: "box point"; of: "stock" | "part"; at: Vec } | { kind: "point"; of: "vertex" | "hole centre"; place: Vec };
  work_offset: number;
  machine: string;
  table_below_mm: number | null;
  on_table_mm: [number, number] | null;
  dialect: string;
  clearance_mm: number;
  retract_mm: number;
};
export type MeasureSpot = {
  on: "part" | "stock" | "fixture" | "table";
  setup?: string;
  fixture?: string;
  what?: Selector | null;
  place?: Vec | null;
};
export type Measurement = { id: string; spots: MeasureSpot[] };
export type Selection = { name: string; items: Selector[] };
export type SketchItem = { kind: string; id: string; [field: string]: unknown };
export type Sketch = { id: string; name: string; setup: string; level_mm: number; items: SketchItem[] };
export type Material = {
  name: string;
  group: string;
  hardness_hb: number;
  kc11_n_mm2: number;
  mc: number;
  surface_speed_m_min: number;
  source: string;
};
export type Target =
  | { kind: "faces"; faces: FaceSelector[] }
  | { kind: "edges"; edges: EdgeReference[] }
  | { kind: "sharp edges"; faces?: FaceSelector[] }
  | { kind: "sketch"; sketch: string; items?: string[] }
  | { kind: "outline" };
export type Params = {
  strategy: string;
  allowance_mm: number;
  floor_allowance_mm: number;
  tolerance_mm: number;
  [field: string]: unknown;
};
export type Operation = {
  number: number;
  name: string;
  enabled: boolean;
  setup: string;
  tool: number;
  instance: number | null;
  copies: Kinded | null;
  params: Params;
  spindle_rpm: number | null;
  cutting_feed_mm_min: number | null;
};
export type JobDocument = {
  name: string;
  part: { file: string; scale: number; roles: { body: string; role: string }[] } | null;
  machines: { name: string }[];
  tools: Tool[];
  setups: Setup[];
  material: string;
  materials: Material[];
  load: number;
  files: string[];
  selections: Selection[];
  measurements: Measurement[];
  sketches: Sketch[];
  operations: Operation[];
  recipe: Record<string, unknown>;
  hole_choices: { face: FaceReference; way: string }[];
  proof: { near_miss_mm: number; band_mm: number };
  cell_mm: number | null;
};

export const toolLabel = (t: Tool | undefined): string => {
  if (!t) return "–";
  const c = t.cutter;
  return t.name || `${c.kind} ⌀${c.diameter_mm}${c.kind === "bull-nose" ? ` r${c.corner_radius_mm}` : ""}`;
};

/** A name that is not taken yet: `clamp`, `clamp-2`, … */
export const freshId = (base: string, taken: string[]): string => {
  const plain = base.toLowerCase().replace(/[^a-z0-9]+/g, "-");
  for (let n = 1; ; n++) {
    const id = n === 1 ? plain : `${plain}-${n}`;
    if (!taken.includes(id)) return id;
  }
};
