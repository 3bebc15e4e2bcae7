import { useFrame, useThree } from "@react-three/fiber";
import { useEffect, useMemo, useRef } from "react";
import { MathUtils, type PerspectiveCamera, Vector3 } from "three";
import { OrbitControls } from "three/examples/jsm/controls/OrbitControls.js";
import { useBench, type ViewName } from "../../store/bench";
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

interface Props {
  centre: Vector3;
  radius: number;
  ready: boolean;
  locked: boolean;
  /** What the coordinates are: when this changes (bench, plate) all is brought into view again. */
  floor: string;
}

/** Orbit, pan and zoom with mouse and touchpad; the views by name; focus on a place. */
export function CameraRig({ centre, radius, ready, locked, floor }: Props) {
  const { camera, gl, invalidate, size } = useThree();
  const view = useBench((s) => s.view);
  const focus = useBench((s) => s.focus);
  const visibility = useBench((s) => s.visibility);
  const controls = useMemo(() => new OrbitControls(camera, gl.domElement), [camera, gl]);
  const move = useRef<{ from: Vector3; to: Vector3; fromTarget: Vector3; toTarget: Vector3; start: number } | null>(
    null,
  );
  const placed = useRef(false);
  /** What was last brought into view, until the person takes the view into their own hands. */
  const aimed = useRef<{ centre: Vector3; radius: number } | null>(null);
  const bounds = useRef({ centre, radius });
  bounds.current = { centre, radius };

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

  const distanceFor = (r: number) => {
    const half = MathUtils.degToRad((camera as PerspectiveCamera).fov / 2);
    const wide = Math.atan(Math.tan(half) * Math.min(size.width / size.height, 1));
    return (r / Math.sin(wide)) * 0.84;
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
    const { centre: c, radius: r } = bounds.current;
    const eye = view.name === "fit" ? camera.position.clone().sub(controls.target) : new Vector3(...EYES[view.name]);
    go(eye, c.clone(), distanceFor(r), !placed.current);
    placed.current = true;
    aimed.current = { centre: c.clone(), radius: r };
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
    const off = centre.distanceTo(last.centre) > 0.06 * last.radius || Math.abs(radius / last.radius - 1) > 0.12;
    if (!off) return;
    const eye = move.current?.to ?? camera.position.clone().sub(controls.target);
    go(eye, centre.clone(), distanceFor(radius), true);
    aimed.current = { centre: centre.clone(), radius };
  }, [centre.x, centre.y, centre.z, radius, ready]);

  // biome-ignore lint/correctness/useExhaustiveDependencies: only a change of the floor moves the eye
  useEffect(() => {
    if (!placed.current) return;
    // The models take their new places first.
    const later = setTimeout(() => {
      const { centre: c, radius: r } = bounds.current;
      go(new Vector3(...EYES.start), c.clone(), distanceFor(r), true);
      aimed.current = { centre: c.clone(), radius: r };
    }, 60);
    return () => clearTimeout(later);
  }, [floor]);

  // biome-ignore lint/correctness/useExhaustiveDependencies: when a place is pointed at, not when the window changes
  useEffect(() => {
    if (!focus || !placed.current) return;
    aimed.current = null;
    const eye = camera.position.clone().sub(controls.target);
    go(eye, new Vector3(...focus.point), distanceFor(Math.max(focus.radius * 3.2, 12)), false);
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
    tellFrame({ camera, width: size.width, height: size.height, target: controls.target });
  });
  return null;
}
