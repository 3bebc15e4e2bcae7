import { goodOf, ofEach, pieceOf } from "../../case/look";
import { BuildPlate, type CardProps, type Drawing, type StepUi, shownOf } from "../../stage";
import { bodiesScene, fromRows } from "../../stage/place";
import { Lying, lay } from "./lay";
import { layers } from "./layers";
import { Printing } from "./Printing";
import { Stands } from "./Stands";
import { tips } from "./tips";
import { Ways } from "./Ways";

function Draws({ data }: Drawing) {
  const plate = goodOf(data, "plate")?.plate;
  return plate ? <BuildPlate width={plate.width_mm} depth={plate.depth_mm} /> : null;
}

function Below(props: CardProps) {
  return (
    <>
      <Stands {...props} />
      <Ways {...props} />
      <Lying {...props} />
    </>
  );
}

const plate: StepUi = {
  name: "plate",
  tools: [lay, tips, layers],
  // The bodies, and what they stand on.
  scene: (at) => [
    ...bodiesScene(plate)(at),
    ...at.data.nodes.flatMap((node) => {
      const piece = node.step === "supports" && node.good?.mesh ? pieceOf(at.data, node.piece) : undefined;
      const digest = node.step === "supports" ? node.good?.mesh : null;
      return piece && digest ? [shownOf(at, plate, { ...piece, id: node.piece }, { digest, role: "supports" })] : [];
    }),
  ],
  Card: Printing,
  Below,
  place: ({ data }, piece) => fromRows(ofEach(goodOf(data, "plate")?.home_to_plate, piece.id)),
  Draws,
  floor: "plate",
  gathers: true,
  // Undersides are seen through the pillars under them.
  shows: ({ view }, shown) => (shown.role === "supports" && view.tool?.id === tips.id ? "ghost" : null),
  // Bodies lie turned each its own way.
  facing: () => false,
  extent: ({ data }) => {
    const known = goodOf(data, "plate")?.plate;
    return known
      ? { centre: [known.width_mm / 2, known.depth_mm / 2, 8], size: [known.width_mm, known.depth_mm, 16] }
      : null;
  },
};

export default plate;
