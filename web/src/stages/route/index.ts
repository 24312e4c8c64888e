export { RouteBench as Bench } from "./RouteBench";
export { RouteSheet as Sheet } from "./RouteSheet";
