export { House } from "./House";
