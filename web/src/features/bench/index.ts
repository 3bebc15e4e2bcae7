export { Bench as default } from "./Bench";
