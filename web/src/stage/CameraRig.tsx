import { useFrame, useThree } from "@react-three/fiber";
import { useEffect, useMemo, useRef } from "react";
import { MathUtils, MOUSE, type PerspectiveCamera, Vector3 } from "three";
import { OrbitControls } from "three/examples/jsm/controls/OrbitControls.js";
import { useBench, type ViewName } from "../store/bench";
import { tellFrame } from "./frames";

/** Where the eye stands, from the middle of the models; x is the patient's left, -y the front. */
const EYES: Record<Exclude<ViewName, "fit">, [number, number, number]> = {
  front: [0, -1, 0],
  right: [-1, 0, 0],
  left: [1, 0, 0],
  back: [0, 1, 0],
  above: [0, -0.0001, 1],
  below: [0, -0.0001, -1],
  start: [0.3, -1, 0.32],
};
const MOVE_MS = 260;
/** So much of the stage is filled; tools and legends stand along its edges. */
const FILLED = 0.76;

/** Where the eye goes to see a face: it stays where the face is seen well already, else it stands before it, a little over it. */
function facedFrom(eye: Vector3, out: Vector3): Vector3 {
  if (eye.dot(out) > 0.5 * eye.length() * out.length()) return eye;
  const level = Math.hypot(out.x, out.y);
  // Never straight from above or below: the eye turns about the upright.
  if (level < 0.2) return new Vector3(0, -0.0001, out.z);
  return out
    .clone()
    .normalize()
    .add(new Vector3(0, 0, 0.25));
}

interface Props {
  centre: Vector3;
  /** Of all that is drawn, along the axes (mm). */
  size: Vector3;
  ready: boolean;
  locked: boolean;
  /** The left button is a tool's: the view is turned with the right one. */
  drawn: boolean;
  /** What the coordinates are: when this changes (bench, plate) all is brought into view again. */
  floor: string;
}

/** Orbit, pan and zoom with mouse and touchpad; the views by name; focus on a place. */
export function CameraRig({ centre, size, ready, locked, drawn, floor }: Props) {
  const { camera, gl, invalidate, size: canvas } = useThree();
  const view = useBench((s) => s.eye);
  const focus = useBench((s) => s.focus);
  const visibility = useBench((s) => s.visibility);
  const controls = useMemo(() => new OrbitControls(camera, gl.domElement), [camera, gl]);
  const move = useRef<{ from: Vector3; to: Vector3; fromTarget: Vector3; toTarget: Vector3; start: number } | null>(
    null,
  );
  const placed = useRef(false);
  /** What was last brought into view, until the person takes the view into their own hands. */
  const aimed = useRef<{ centre: Vector3; size: Vector3 } | null>(null);
  const bounds = useRef({ centre, size });
  bounds.current = { centre, size };

  useEffect(() => {
    controls.enableDamping = false;
    controls.zoomToCursor = true;
    controls.zoomSpeed = 1.1;
    controls.minDistance = 12;
    controls.maxDistance = 900;
    const stop = () => {
      move.current = null;
      aimed.current = null;
    };
    const redraw = () => invalidate();
    controls.addEventListener("change", redraw);
    controls.addEventListener("start", stop);
    return () => {
      controls.removeEventListener("change", redraw);
      controls.removeEventListener("start", stop);
      controls.dispose();
    };
  }, [controls, invalidate]);

  useEffect(() => {
    controls.enabled = !locked;
  }, [controls, locked]);

  useEffect(() => {
    controls.mouseButtons = drawn
      ? { LEFT: null, MIDDLE: MOUSE.DOLLY, RIGHT: MOUSE.ROTATE }
      : { LEFT: MOUSE.ROTATE, MIDDLE: MOUSE.DOLLY, RIGHT: MOUSE.PAN };
  }, [controls, drawn]);

  /** How far the eye stands so that a box of this size fills the stage, looked at from there. */
  const distanceFor = (box: Vector3, eye: Vector3) => {
    const high = Math.tan(MathUtils.degToRad((camera as PerspectiveCamera).fov / 2)) * FILLED;
    const wide = high * (canvas.width / canvas.height);
    const out = eye.clone().normalize();
    const right = new Vector3().crossVectors(camera.up, out).normalize();
    const up = new Vector3().crossVectors(out, right);
    let distance = 0;
    for (let corner = 0; corner < 8; corner++) {
      const at = new Vector3(corner & 1 ? 0.5 : -0.5, corner & 2 ? 0.5 : -0.5, corner & 4 ? 0.5 : -0.5).multiply(box);
      const needed = Math.max(Math.abs(at.dot(right)) / wide, Math.abs(at.dot(up)) / high);
      distance = Math.max(distance, at.dot(out) + needed);
    }
    return distance;
  };

  const go = (eye: Vector3, target: Vector3, distance: number, jump: boolean) => {
    const to = target.clone().addScaledVector(eye.clone().normalize(), distance);
    const still = window.matchMedia("(prefers-reduced-motion: reduce)").matches;
    if (jump || still) {
      camera.position.copy(to);
      controls.target.copy(target);
      controls.update();
      move.current = null;
    } else {
      const from = camera.position.clone().sub(controls.target);
      move.current = {
        from,
        to: to.clone().sub(target),
        fromTarget: controls.target.clone(),
        toTarget: target,
        start: performance.now(),
      };
    }
    invalidate();
  };

  // biome-ignore lint/correctness/useExhaustiveDependencies: the first time there is something to see, and when a view is asked for
  useEffect(() => {
    if (!ready) return;
    const { centre: c, size: box } = bounds.current;
    const eye = view.name === "fit" ? camera.position.clone().sub(controls.target) : new Vector3(...EYES[view.name]);
    go(eye, c.clone(), distanceFor(box, eye), !placed.current);
    placed.current = true;
    aimed.current = { centre: c.clone(), size: box.clone() };
  }, [view, ready]);

  // What is hidden or shown by hand leaves the eye where it is.
  // biome-ignore lint/correctness/useExhaustiveDependencies: when the choice changes
  useEffect(() => {
    aimed.current = null;
  }, [visibility]);

  // Scans that have just come are turned to the bench while they are looked at: the eye goes with them.
  // biome-ignore lint/correctness/useExhaustiveDependencies: where the models are moves the eye, nothing else
  useEffect(() => {
    const last = aimed.current;
    if (!last || !ready) return;
    const far = last.size.length() / 2;
    const off = centre.distanceTo(last.centre) > 0.06 * far || size.distanceTo(last.size) > 0.12 * last.size.length();
    if (!off) return;
    const eye = move.current?.to ?? camera.position.clone().sub(controls.target);
    go(eye, centre.clone(), distanceFor(size, eye), true);
    aimed.current = { centre: centre.clone(), size: size.clone() };
  }, [centre.x, centre.y, centre.z, size.x, size.y, size.z, ready]);

  // biome-ignore lint/correctness/useExhaustiveDependencies: only a change of the floor moves the eye
  useEffect(() => {
    if (!placed.current) return;
    // The models take their new places first.
    const later = setTimeout(() => {
      const { centre: c, size: box } = bounds.current;
      const eye = new Vector3(...EYES.start);
      go(eye, c.clone(), distanceFor(box, eye), true);
      aimed.current = { centre: c.clone(), size: box.clone() };
    }, 60);
    return () => clearTimeout(later);
  }, [floor]);

  // biome-ignore lint/correctness/useExhaustiveDependencies: when a place is pointed at, not when the window changes
  useEffect(() => {
    if (!focus || !placed.current) return;
    aimed.current = null;
    const now = camera.position.clone().sub(controls.target);
    const eye = focus.facing ? facedFrom(now, new Vector3(...focus.facing)) : now;
    const around = new Vector3().setScalar(Math.max(focus.radius * 3.2, 12) * 1.4);
    go(eye, new Vector3(...focus.point), distanceFor(around, eye), false);
  }, [focus]);

  useFrame(() => {
    const m = move.current;
    if (m) {
      const t = Math.min((performance.now() - m.start) / MOVE_MS, 1);
      const ease = t * t * (3 - 2 * t);
      // Turn on a sphere: a straight line between opposite views would pass through the model.
      const length = MathUtils.lerp(m.from.length(), m.to.length(), ease);
      const a = m.from.clone().normalize();
      const b = m.to.clone().normalize();
      const angle = Math.acos(MathUtils.clamp(a.dot(b), -1, 1));
      const dir =
        angle < 1e-4
          ? b
          : angle > Math.PI - 1e-3
            ? a.lerp(b, ease).normalize()
            : a
                .multiplyScalar(Math.sin((1 - ease) * angle))
                .addScaledVector(b, Math.sin(ease * angle))
                .normalize();
      controls.target.lerpVectors(m.fromTarget, m.toTarget, ease);
      camera.position.copy(controls.target).addScaledVector(dir, length);
      controls.update();
      if (t >= 1) move.current = null;
      else invalidate();
    }
    const d = camera.position.distanceTo(controls.target);
    const p = camera as PerspectiveCamera;
    if (p.near !== d / 60 || p.far !== d + 400) {
      p.near = d / 60;
      p.far = d + 400;
      p.updateProjectionMatrix();
    }
    camera.updateMatrixWorld();
    tellFrame({ camera, width: canvas.width, height: canvas.height, target: controls.target });
  });
  return null;
}
