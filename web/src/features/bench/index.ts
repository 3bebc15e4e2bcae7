export { prepareStage } from "../../stage";
export { Bench as default } from "./Bench";
