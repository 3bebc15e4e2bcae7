import { MathUtils, Vector3 } from "three";
import { type Point, type Section, useBench } from "../store/bench";

const AXES = [new Vector3(1, 0, 0), new Vector3(0, -1, 0), new Vector3(0, 0, 1)] as const;

/** Where the plane of a section looks. */
export function sectionAlong({ axis, tilt, lean }: Section): Vector3 {
  return AXES[axis]
    .clone()
    .applyAxisAngle(AXES[(axis + 1) % 3] as Vector3, MathUtils.degToRad(tilt))
    .applyAxisAngle(AXES[(axis + 2) % 3] as Vector3, MathUtils.degToRad(lean));
}

/** Is a place on the stage still there? With a section in the hand what lies on one side of it is taken away. */
export function useLeft(): (at: Point) => boolean {
  const held = useBench((s) => s.tool?.id === "section");
  const section = useBench((s) => s.section);
  if (!held) return () => true;
  const along = sectionAlong(section);
  return (at) => {
    const past = new Vector3(...at).dot(along) - section.mm;
    return section.other ? past >= 0 : past <= 0;
  };
}
