import { useEffect, useMemo } from "react";
import { BufferGeometry, Float32BufferAttribute, Matrix4, Vector3 } from "three";
import { goodOf, pieceOf } from "../../case/look";
import { type Drawing, ink, placeOf } from "../../stage";
import { useLoaded } from "../../stage/useLoaded";
import { axesOf, type Standing } from "./labels";

// So far beside its box and from the wall a corner of a label can lie.
const BESIDE_MM = 0.6;
const FAR_MM = 3;

/** The letters of one label as they will stand at another place. axes : of that place, in the jaw's home. */
export function Ghost({ drawing, label, axes, piece }: GhostProps) {
  const { data, view, ui } = drawing;
  const letters = goodOf(data, "label", piece)?.letters ?? null;
  const onStage = useLoaded(letters, null);
  const loaded = onStage?.loaded ?? null;
  const geometry = useMemo(() => (loaded ? cutOut(loaded.geometry, loaded.origin, label) : null), [loaded, label]);
  useEffect(() => () => geometry?.dispose(), [geometry]);
  const owner = pieceOf(data, piece);
  if (!geometry || !owner) return null;
  const matrix = new Matrix4().copy(placeOf(ui, { data, view }, owner)).multiply(axes);
  return (
    <mesh
      name="label-ghost"
      geometry={geometry}
      material={ink("#17282b")}
      matrixAutoUpdate={false}
      matrix={matrix}
      renderOrder={4}
      raycast={() => {}}
      dispose={null}
    />
  );
}

interface GhostProps {
  drawing: Drawing;
  piece: string;
  label: Standing;
  axes: Matrix4;
}

/** Of the letters of a body those of one label, in its own axes. */
function cutOut(all: BufferGeometry, origin: [number, number, number], label: Standing): BufferGeometry {
  const own = new Matrix4().copy(axesOf(label.middle, label.along, label.up)).invert();
  const position = all.getAttribute("position");
  const index = all.getIndex();
  const count = index ? index.count : position.count;
  const corner = new Vector3();
  const kept: number[] = [];
  for (let k = 0; k < count; k += 3) {
    const triangle: number[] = [];
    for (let c = 0; c < 3; c++) {
      corner.fromBufferAttribute(position, index ? index.getX(k + c) : k + c);
      corner.set(corner.x + origin[0], corner.y + origin[1], corner.z + origin[2]).applyMatrix4(own);
      triangle.push(corner.x, corner.y, corner.z);
    }
    if (inBox(triangle, label)) kept.push(...triangle);
  }
  const out = new BufferGeometry();
  out.setAttribute("position", new Float32BufferAttribute(kept, 3));
  // The program is chosen by what a geometry has: with normals it is the one that draws the models.
  out.setAttribute("normal", new Float32BufferAttribute(new Float32Array(kept.length), 3));
  return out;
}

function inBox([x = 0, y = 0, z = 0]: number[], { width_mm, height_mm }: Standing): boolean {
  const bent = Math.abs(x) <= width_mm / 2 + BESIDE_MM;
  return bent && Math.abs(y) <= height_mm / 2 + BESIDE_MM && Math.abs(z) <= FAR_MM + width_mm / 4;
}
