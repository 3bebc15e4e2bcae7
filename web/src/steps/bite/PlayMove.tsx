import { useFrame, useThree } from "@react-three/fiber";
import { useEffect, useRef } from "react";
import { Matrix4, type Object3D, Quaternion, Vector3 } from "three";
import { usePlays } from "./plays";

const SECONDS = 1.6;
/** A scan that came from far away starts no farther off than this. */
const FAR_MM = 40;

/** The lower comes from where it was scanned to where it bites: its meshes are moved, nothing else is drawn anew. */
export function PlayMove({ piece, came, place }: { piece: string; came: Matrix4; place: Matrix4 }) {
  const count = usePlays((s) => s.count);
  const { scene, invalidate } = useThree();
  const playing = useRef<{ at: number; delta: Matrix4; middle: Vector3 } | null>(null);
  // biome-ignore lint/correctness/useExhaustiveDependencies: it plays when it is asked to, not when a matrix changes
  useEffect(() => {
    if (count === 0) return;
    const calm = window.matchMedia("(prefers-reduced-motion: reduce)").matches;
    playing.current = {
      at: calm ? SECONDS * 0.999 : 0,
      delta: came.clone().multiply(place.clone().invert()),
      middle: middleOf(scene, piece),
    };
    invalidate();
  }, [count]);

  useFrame((_, seconds) => {
    const now = playing.current;
    if (!now) return;
    now.at += Math.min(seconds, 0.05);
    const share = Math.min(now.at / SECONDS, 1);
    const step = between(now.delta, now.middle, 1 - share * share * (3 - 2 * share));
    scene.traverse((o) => {
      const own = o.userData.matrix as Matrix4 | undefined;
      if (o.userData.piece === piece && own) o.matrix.copy(step).multiply(own);
    });
    if (share >= 1) playing.current = null;
    invalidate();
  });
  return null;
}

function middleOf(scene: Object3D, piece: string): Vector3 {
  const out = new Vector3();
  scene.traverse((o) => {
    if (o.userData.piece === piece && o.userData.matrix) out.set(0, 0, 0).applyMatrix4(o.userData.matrix as Matrix4);
  });
  return out;
}

/** So much of a movement, turning about the middle of what moves. A jaw that did not move opens and closes. */
function between(delta: Matrix4, middle: Vector3, share: number): Matrix4 {
  const turn = new Quaternion().setFromRotationMatrix(delta);
  const shift = middle.clone().applyMatrix4(delta).sub(middle);
  if (shift.length() < 0.01 && turn.angleTo(new Quaternion()) < 1e-3) {
    shift.set(0, 0, -14);
    turn.setFromAxisAngle(new Vector3(1, 0, 0), 0.16);
  }
  shift.clampLength(0, FAR_MM).multiplyScalar(share);
  const part = new Quaternion().slerp(turn, share);
  return new Matrix4()
    .makeTranslation(middle.clone().add(shift))
    .multiply(new Matrix4().makeRotationFromQuaternion(part))
    .multiply(new Matrix4().makeTranslation(middle.clone().negate()));
}
