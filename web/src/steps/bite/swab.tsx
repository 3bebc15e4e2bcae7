import { Brush } from "lucide-react";
import { brushed, type Tool } from "../../stage";

const SWAB_MM = 1.5;

export const swab: Tool = {
  id: "swab",
  title: "Swab",
  long: "Swab: brush what has changed on a scan that follows",
  keys: "w",
  icon: Brush,
  hint: "Brush on a scan that follows its jaw what has changed: it is left out of the fit. With Alt, what has not. The swab is 3 mm wide and reaches into undercuts.",
  button: false,
  ...brushed({
    radius: () => SWAB_MM,
    colours: ["#a3172a", "#1d6b5e"],
    on: (shown) => shown.drawn === "map",
    send: ({ doings }, { piece, points, adds }) =>
      doings.entry("follow", piece, ["swab"], "", { points_mm: points, radius_mm: SWAB_MM, adds }),
  }),
};
