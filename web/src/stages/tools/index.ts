export { ToolBench as Bench } from "./ToolBench";
export { ToolSheet as Sheet } from "./ToolSheet";
