import { Layers2 } from "lucide-react";
import { goodOf } from "../../case/look";
import { bodiesScene, type CardProps, type Shown, type StepUi, type Tool } from "../../stage";
import { useBench } from "../../store/bench";
import { addDrain, DrainBalls, DrainList, DrainWords } from "./drains";
import { Takes } from "./Takes";

function Below(props: CardProps) {
  return (
    <>
      <Takes {...props} />
      <DrainList {...props} />
    </>
  );
}

const wallMap: Tool = {
  id: "wall-map",
  title: "Wall map",
  long: "Wall map: how thick the wall is everywhere",
  keys: "shift+m",
  icon: Layers2,
  group: "Views",
  here: ({ data }) => data.pieces.some((p) => goodOf(data, "wall-map", p.id)?.map),
  on: ({ view }) => view.map,
  run: ({ view }) => useBench.getState().showMap(!view.map),
};

const hollow: StepUi = {
  name: "hollow",
  tools: [addDrain, wallMap],
  Draws: DrainBalls,
  Words: DrainWords,
  Below,
  hint: "Take up the section (Y) to look inside; pull a drain by its ball.",
};

hollow.scene = (at): Shown[] =>
  bodiesScene(hollow)(at).map((shown) => {
    const map = at.view.map && shown.role === "body" ? goodOf(at.data, "wall-map", shown.piece)?.map : null;
    return map ? { ...shown, digest: map, role: "wall", drawn: "map", key: `${shown.key} wall` } : shown;
  });

export default hollow;
