import { createTheme, Select, type MantineColorsTuple } from "@mantine/core";

const verdigris: MantineColorsTuple = [
  "#e8f4f1",
  "#d3e7e2",
  "#a6cfc6",
  "#77b6a9",
  "#51a191",
  "#399382",
  "#1f7a6d",
  "#19685d",
  "#12564d",
  "#08433c",
];

/** The house look: paper and graphite, one accent, two signal colours. */
export const theme = createTheme({
  primaryColor: "verdigris",
  primaryShade: 6,
  colors: { verdigris },
  fontFamily: "'Source Sans 3 Variable', sans-serif",
  fontFamilyMonospace: "'Source Code Pro Variable', monospace",
  fontSizes: { xs: "12px", sm: "13px", md: "14px", lg: "16px", xl: "19px" },
  defaultRadius: 3,
  headings: { fontWeight: "600" },
  // A list of hundreds of threads stands in the page while it is open, not before.
  components: { Select: Select.extend({ defaultProps: { comboboxProps: { keepMounted: false } } }) },
});

export const KINDS = [
  { name: "rapid", colour: "#5d646b", dash: true },
  { name: "approach", colour: "#b7791f", dash: false },
  { name: "entry", colour: "#b7791f", dash: false },
  { name: "cut", colour: "#6d2f6b", dash: false },
  { name: "link", colour: "#c98a97", dash: false },
  { name: "exit", colour: "#b7791f", dash: false },
  { name: "retract", colour: "#5d646b", dash: true },
] as const;

/** Dots of the map of what is left, in the order of their states. */
export const LEFT_STATES = [
  { name: "finished", colour: "#4d7f78", size: 2 },
  { name: "left", colour: "#d9730d", size: 4 },
  { name: "not seen by any setup", colour: "#6b4a86", size: 3 },
] as const;

/** ColorBrewer PuOr, from cut too deep (purple) to material left (orange). */
const PUOR = ["#542788", "#8073ac", "#b2abd2", "#d8daeb", "#f7f7f7", "#fee0b6", "#fdb863", "#e08214", "#b35806"];

/** Colour of a deviation; within the band it is pale, five bands fill the scale. */
export function deviationColour(value: number, band: number): [number, number, number] {
  const over = Math.abs(value) <= band ? 0 : Math.sign(value) * Math.min((Math.abs(value) - band) / (4 * band), 1);
  const at = 4 + over * 4;
  const low = Math.floor(Math.min(at, 7.999));
  const t = at - low;
  const a = parse(PUOR[low]);
  const b = parse(PUOR[Math.min(low + 1, 8)]);
  return [a[0] + (b[0] - a[0]) * t, a[1] + (b[1] - a[1]) * t, a[2] + (b[2] - a[2]) * t];
}

function parse(hex: string): [number, number, number] {
  const n = parseInt(hex.slice(1), 16);
  return [((n >> 16) & 255) / 255, ((n >> 8) & 255) / 255, (n & 255) / 255];
}

/** From little to much: straw, verdigris, aubergine. */
const LOADS = ["#d9c77a", "#86b18a", "#3f8f86", "#3f5f86", "#5a3f7d", "#6d2f6b", "#4a1440"];
/** ColorBrewer YlOrBr: nothing left to much left. */
const LEFT = ["#cfc8b8", "#fee391", "#fec44f", "#fe9929", "#d95f0e", "#993404", "#5c1f02"];

/** A colour of a scale, at a share of it from 0 to 1. */
function scaled(scale: string[], share: number): [number, number, number] {
  const at = Math.min(Math.max(share, 0), 1) * (scale.length - 1);
  const low = Math.min(Math.floor(at), scale.length - 2);
  const a = parse(scale[low]),
    b = parse(scale[low + 1]);
  return [0, 1, 2].map((k) => a[k] + (b[k] - a[k]) * (at - low)) as [number, number, number];
}

/** Colour of a load, as a share of the most that the scale shows. */
export const loadColour = (share: number) => scaled(LOADS, share);

/** Colour of what stands over the part: pale where nothing does, purple where the part itself is cut. */
export const leftColour = (mm: number, full: number): [number, number, number] =>
  mm < -0.02 * full ? parse("#6b4a86") : scaled(LEFT, mm / full);

export const cssColour = (rgb: [number, number, number]) => `rgb(${rgb.map((c) => Math.round(c * 255)).join(" ")})`;

export const clock = (seconds: number | null | undefined): string => {
  if (seconds == null) return "–";
  const s = Math.round(seconds);
  const h = Math.floor(s / 3600);
  const m = Math.floor((s % 3600) / 60);
  const rest = String(s % 60).padStart(2, "0");
  return h ? `${h}:${String(m).padStart(2, "0")}:${rest}` : `${m}:${rest}`;
};
