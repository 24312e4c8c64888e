/** Radial depth beside a straight wall at which a cutter is engaged by an arc from its side: r · (1 − cos φ). */
export const stepoverOf = (degrees: number, diameter: number): number =>
  (diameter / 2) * (1 - Math.cos((degrees * Math.PI) / 180));

/** The width of cut that a load proposes for a tool in the job's material: it goes with a half and the load. */
export type WidthAtLoad = { load: number; width: number };

/** The load, from 0 to 1, that would propose a width. */
export const loadOf = (width: number, known: WidthAtLoad): number => (width / known.width) * (0.5 + known.load) - 0.5;

/** The width that a load would propose. */
export const widthOf = (load: number, known: WidthAtLoad): number => (known.width * (0.5 + load)) / (0.5 + known.load);

/** The arc, in degrees, of a radial depth beside a straight wall. */
export const arcOf = (stepover: number, diameter: number): number =>
  (Math.acos(Math.min(Math.max(1 - (2 * stepover) / diameter, -1), 1)) * 180) / Math.PI;
