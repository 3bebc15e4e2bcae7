export { type Hand, handMatrix, useSteps } from "./byHand";
export { colourOf } from "./Pairs";
export { marksOf, Stage } from "./Stage";
export { prepareStage } from "./StageCanvas";
export { goodValue, nodeOf, type Saw, type Saws, sawsOf, toStage } from "./scene";
