export { SetupBench as Bench } from "./SetupBench";
export { SetupSheet as Sheet } from "./SetupSheet";
