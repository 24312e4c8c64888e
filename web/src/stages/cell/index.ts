export { CellBench as Bench } from "./CellBench";
export { CellSheet as Sheet } from "./CellSheet";
