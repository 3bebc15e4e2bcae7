import { useThree } from "@react-three/fiber";
import { useEffect } from "react";
import { Matrix4 } from "three";
import { useBench } from "../store/bench";

/** What is moved by hand stands at once where it will be kept; the true place takes over when it is worked out. */
export function TriedMove() {
  const preview = useBench((s) => s.preview);
  const { scene, invalidate } = useThree();
  useEffect(() => {
    if (!preview) return;
    const step = new Matrix4().fromArray(preview.matrix);
    scene.traverse((o) => {
      const own = o.userData.matrix as Matrix4 | undefined;
      if (own && (preview.piece === "*" || o.userData.piece === preview.piece)) o.matrix.copy(step).multiply(own);
    });
    invalidate();
  }, [preview, scene, invalidate]);
  return null;
}
