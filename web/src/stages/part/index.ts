export { PartBench as Bench } from "./PartBench";
export { PartSheet as Sheet } from "./PartSheet";
