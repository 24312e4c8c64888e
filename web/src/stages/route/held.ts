/** Radial depth beside a straight wall at which a cutter is engaged by an arc from its side: r · (1 − cos φ). */
export const stepoverOf = (degrees: number, diameter: number): number =>
  (diameter / 2) * (1 - Math.cos((degrees * Math.PI) / 180));

/** The arc, in degrees, of a radial depth beside a straight wall. */
export const arcOf = (stepover: number, diameter: number): number =>
  (Math.acos(Math.min(Math.max(1 - (2 * stepover) / diameter, -1), 1)) * 180) / Math.PI;
