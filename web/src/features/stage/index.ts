export { Stage } from "./Stage";
export { prepareStage } from "./StageCanvas";
export { goodValue, nodeOf, type Saw, type Saws, sawsOf, toStage } from "./scene";
