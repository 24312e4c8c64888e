/** What people may do here, in words. */
import type { Schemas } from "../api/client";

export type Role = Schemas["Account"]["role"];
export const MAY: Record<Role, string> = {
  look: "may look at jobs",
  program: "may program",
  run: "runs the shop",
};
export const ROLES = (Object.keys(MAY) as Role[]).map((value) => ({ value, label: MAY[value] }));
