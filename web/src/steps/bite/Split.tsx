import { useFrame, useThree } from "@react-three/fiber";
import { useEffect, useMemo, useRef } from "react";
import { PerspectiveCamera, Vector3 } from "three";
import { OrbitControls } from "three/examples/jsm/controls/OrbitControls.js";

/** What one half shows: everything on its layer, with the middle and the reach of it. */
export interface Half {
  layer: number;
  centre: Vector3;
  radius: number;
  /** Direction from the middle to the eye. */
  eye: [number, number, number];
}

const START = { centre: new Vector3(1e6, 0, 0), radius: 1 };

/** Two views side by side in the one canvas, each turned by itself; a click asks the half it falls into. */
export function Split({ left, right }: { left: Half; right: Half }) {
  const { gl, size, invalidate, setEvents, get } = useThree();
  const halves = useMemo(() => [0, 1].map(() => new PerspectiveCamera(24, 1, 1, 900)), []);
  const controls = useMemo(() => halves.map((c) => new OrbitControls(c, gl.domElement)), [halves, gl]);
  // Where each half was last brought into view; null once the person has turned it.
  const placed = useRef<({ centre: Vector3; radius: number } | null)[]>([START, START]);

  useEffect(() => {
    const sideOf = (event: { clientX: number }) => {
      const box = gl.domElement.getBoundingClientRect();
      return event.clientX - box.left < box.width / 2 ? 0 : 1;
    };
    const choose = (event: PointerEvent | WheelEvent) => {
      if (event.type === "pointermove" && event.buttons) return;
      const side = sideOf(event);
      controls.forEach((c, i) => {
        c.enabled = i === side;
      });
    };
    const redraw = () => invalidate();
    const taken = controls.map((_, i) => () => {
      placed.current[i] = null;
    });
    for (const [i, c] of controls.entries()) {
      c.addEventListener("start", taken[i] ?? redraw);
      c.enableDamping = false;
      c.zoomToCursor = false;
      halves[i]?.up.set(0, 0, 1);
      c.addEventListener("change", redraw);
    }
    for (const type of ["pointermove", "pointerdown", "wheel"] as const)
      gl.domElement.addEventListener(type, choose, { capture: true });
    const before = get().events.compute;
    setEvents({
      compute: (event, state) => {
        const box = gl.domElement.getBoundingClientRect();
        const side = sideOf(event);
        const wide = box.width / 2;
        const x = ((event.clientX - box.left - side * wide) / wide) * 2 - 1;
        state.pointer.set(x, 1 - ((event.clientY - box.top) / box.height) * 2);
        state.raycaster.layers.set(side === 0 ? left.layer : right.layer);
        const camera = halves[side];
        if (camera) state.raycaster.setFromCamera(state.pointer, camera);
      },
    });
    return () => {
      for (const type of ["pointermove", "pointerdown", "wheel"] as const)
        gl.domElement.removeEventListener(type, choose, { capture: true });
      for (const [i, c] of controls.entries()) {
        c.removeEventListener("change", redraw);
        c.removeEventListener("start", taken[i] ?? redraw);
        c.dispose();
      }
      setEvents({ compute: before });
      get().raycaster.layers.set(0);
      gl.setScissorTest(false);
      gl.setViewport(0, 0, get().size.width, get().size.height);
    };
  }, [controls, halves, gl, invalidate, setEvents, get, left.layer, right.layer]);

  // Each half is brought into view when what it shows has come, and again when that stands elsewhere.
  useEffect(() => {
    [left, right].forEach((half, i) => {
      const camera = halves[i];
      const last = placed.current[i];
      if (!camera || !last || half.radius <= 0) return;
      const same =
        half.centre.distanceTo(last.centre) < 0.06 * half.radius && Math.abs(half.radius / last.radius - 1) < 0.12;
      if (same) return;
      placed.current[i] = { centre: half.centre.clone(), radius: half.radius };
      const high = ((camera.fov / 2) * Math.PI) / 180;
      const wide = Math.atan(Math.tan(high) * (size.width / 2 / size.height));
      const far = (half.radius / Math.sin(Math.min(high, wide))) * 1.02;
      const c = controls[i];
      c?.target.copy(half.centre);
      const [x, y, z] = half.eye;
      const long = Math.hypot(x, y, z);
      camera.position.copy(half.centre).add(new Vector3(x, y, z).multiplyScalar(far / long));
      c?.update();
    });
    invalidate();
  }, [left, right, halves, controls, invalidate, size]);

  useFrame(({ gl: renderer, scene }) => {
    const wide = size.width / 2;
    renderer.setScissorTest(true);
    [left, right].forEach((half, i) => {
      const camera = halves[i];
      if (!camera) return;
      camera.aspect = wide / size.height;
      const far = camera.position.distanceTo(half.centre);
      camera.near = Math.max(far / 60, 0.5);
      camera.far = far + 400;
      camera.layers.set(half.layer);
      camera.updateProjectionMatrix();
      renderer.setViewport(i * wide, 0, wide, size.height);
      renderer.setScissor(i * wide, 0, wide, size.height);
      renderer.render(scene, camera);
    });
  }, 1);
  return null;
}
