export { Stage } from "./Stage";
export { goodValue, nodeOf, type Saw, type Saws, sawsOf, toStage } from "./scene";
