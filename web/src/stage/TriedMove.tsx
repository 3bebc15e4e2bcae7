import { useFrame, useThree } from "@react-three/fiber";
import { useEffect, useRef } from "react";
import { Matrix4, type Scene } from "three";
import { type Move, useBench } from "../store/bench";

/** What is printed by itself goes with its jaw, where it is not named itself. */
function moveOf(moves: Move[] | null, piece: string): Matrix4 | null {
  const jaw = piece.split(".")[0];
  const own = moves?.find((m) => m.piece === piece) ?? moves?.find((m) => m.piece === "*" || m.piece === jaw);
  return own ? new Matrix4().fromArray(own.matrix) : null;
}

function place(scene: Scene, moves: Move[] | null) {
  scene.traverse((o) => {
    const own = o.userData.matrix as Matrix4 | undefined;
    if (!own) return;
    const step = moveOf(moves, String(o.userData.piece));
    o.matrix.copy(own);
    if (step) o.matrix.premultiply(step);
  });
}

/** What is moved by hand stands at once where it will be kept; the true place takes over when it is worked out. */
export function TriedMove() {
  const preview = useBench((s) => s.preview);
  const { scene, invalidate } = useThree();
  const moved = useRef(false);
  useEffect(() => {
    if (!preview && !moved.current) return;
    moved.current = preview !== null;
    // Nothing is tried any more: all goes back to where it is.
    if (!preview) place(scene, null);
    invalidate();
  }, [preview, scene, invalidate]);
  // What comes onto the stage meanwhile, too.
  useFrame(() => preview && place(scene, preview));
  return null;
}
