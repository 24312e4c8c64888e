export { ReleaseBench as Bench } from "./ReleaseBench";
export { ReleaseSheet as Sheet } from "./ReleaseSheet";
