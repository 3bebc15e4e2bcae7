export { PlateRoom as default } from "./PlateRoom";
