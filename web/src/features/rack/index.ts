export { Rack } from "./Rack";
