export { useAwaited } from "./awaited";
export { BuildPlate } from "./BuildPlate";
export { type Hand, handMatrix, useSteps } from "./byHand";
export { CameraRig } from "./CameraRig";
export { Drag } from "./drag";
export type { At, Bounds, CardProps, Corners, Cut, Drawing, Probed, Shown, StepUi, Tool } from "./kit";
export { Label } from "./Label";
export { Line } from "./Line";
export { acquire, type Loaded, release } from "./loader";
export { Balls } from "./Marks";
export { Model } from "./Model";
export { type Spot, through, useOnScreen } from "./onScreen";
export { PulledBall } from "./PulledBall";
export { PulledPlane } from "./PulledPlane";
export { moving } from "./pace";
export {
  benchPlace,
  bodiesScene,
  fromRows,
  fromStage,
  placeOf,
  rawDigest,
  rawOf,
  scansScene,
  shownOf,
  takesPart,
  toStage,
} from "./place";
export { BALL, ink, SQUARE } from "./plaster";
export { type Ring, Rings } from "./Rings";
export { Stage, shownAs, unionOf } from "./Stage";
export { prepareStage, StageCanvas } from "./StageCanvas";
export { sectionAlong, useLeft } from "./sectioned";
export { brushed, type Stroke } from "./strokes";
export { Choice, Slide, ToolPanel } from "./ToolPanel";
