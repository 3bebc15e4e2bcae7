export { type Hand, handMatrix, useSteps } from "./byHand";
export type { At, Bounds, CardProps, Cut, Drawing, Shown, StepUi, Tool } from "./kit";
export { Label } from "./Label";
export { Line } from "./Line";
export { Balls } from "./Marks";
export { benchPlace, placeOf, rawDigest, rawOf, scansScene, shownOf, takesPart, toStage } from "./place";
export { BALL, ink, SQUARE } from "./plaster";
export { Stage, shownAs, unionOf } from "./Stage";
export { prepareStage } from "./StageCanvas";
