/** The stages of a job in their order; each is fetched when it is first seen. */
import { lazy, type ComponentType, type LazyExoticComponent } from "react";

import type { JobDocument } from "./document";

type Opens = { onFile: (file: File) => void };
type Loads = () => Promise<{ Sheet: ComponentType<Opens>; Bench: ComponentType }>;
export type Stage = {
  id: string;
  title: string;
  Sheet: LazyExoticComponent<ComponentType<Opens>>;
  Bench: LazyExoticComponent<ComponentType>;
  /** Whether there is anything to list in the bench yet. */
  lists: (doc: JobDocument) => boolean;
  /** Whether the job has a use for it. */
  wanted: (doc: JobDocument) => boolean;
};

const stage = (
  id: string,
  title: string,
  load: Loads,
  lists: Stage["lists"] = () => true,
  wanted: Stage["wanted"] = () => true,
): Stage => ({
  id,
  title,
  Sheet: lazy(() => load().then((m) => ({ default: m.Sheet }))),
  Bench: lazy(() => load().then((m) => ({ default: m.Bench }))),
  lists,
  wanted,
});

/** Whether the machine of some setup is a cell. */
const hasCell = (doc: JobDocument) => doc.setups.some((s) => doc.cells.some((c) => c.name === s.machine));

export const STAGES: Stage[] = [
  stage(
    "part",
    "Part",
    () => import("../stages/part"),
    (doc) => !!doc.part,
  ),
  stage(
    "setups",
    "Setups",
    () => import("../stages/setups"),
    (doc) => doc.setups.length > 0,
  ),
  stage("tools", "Tools", () => import("../stages/tools")),
  stage("route", "Route", () => import("../stages/route")),
  stage(
    "cell",
    "Cell",
    () => import("../stages/cell"),
    () => true,
    hasCell,
  ),
  stage("proof", "Proof", () => import("../stages/proof")),
  stage("release", "Release", () => import("../stages/release")),
];
