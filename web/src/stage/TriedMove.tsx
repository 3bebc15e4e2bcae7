import { useThree } from "@react-three/fiber";
import { useEffect, useRef } from "react";
import { Matrix4 } from "three";
import { useBench } from "../store/bench";

/** What is moved by hand stands at once where it will be kept; the true place takes over when it is worked out. */
export function TriedMove() {
  const preview = useBench((s) => s.preview);
  const { scene, invalidate } = useThree();
  const moved = useRef(false);
  useEffect(() => {
    if (!preview && !moved.current) return;
    moved.current = preview !== null;
    // Nothing is tried any more: all goes back to where it is.
    const step = preview ? new Matrix4().fromArray(preview.matrix) : new Matrix4();
    scene.traverse((o) => {
      const own = o.userData.matrix as Matrix4 | undefined;
      // What is printed by itself goes with its jaw.
      const piece = String(o.userData.piece).split(".")[0];
      if (own && (!preview || preview.piece === "*" || piece === preview.piece)) o.matrix.copy(step).multiply(own);
    });
    invalidate();
  }, [preview, scene, invalidate]);
  return null;
}
