export { ProofBench as Bench } from "./ProofBench";
export { ProofSheet as Sheet } from "./ProofSheet";
