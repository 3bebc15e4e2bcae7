import { type RefObject, useEffect, useRef } from "react";
import { Vector3 } from "three";
import type { Point } from "../store/bench";
import { type Frame, followFrames } from "./frames";

/** Where the pointer is on the stage, in pixels from its top left. */
export type Spot = [number, number];

interface Drawn {
  onDown: (at: Spot, alt: boolean) => void;
  onMove: (at: Spot, pressed: boolean) => void;
  onUp: (at: Spot) => void;
  /** The eye was moved. */
  onTurned: () => void;
}

/** What the left button does over the whole stage while a tool that draws is in the hand. `inside` : anything within the stage. */
export function useOnScreen(inside: RefObject<Element | null>, drawn: Drawn): void {
  const latest = useRef(drawn);
  latest.current = drawn;
  useEffect(() => {
    const stage = inside.current?.closest("[data-testid=stage]");
    const canvas = stage?.querySelector("canvas");
    if (!(stage instanceof HTMLElement) || !canvas) return;
    const spot = (e: PointerEvent): Spot => {
      const box = stage.getBoundingClientRect();
      return [e.clientX - box.left, e.clientY - box.top];
    };
    let pressed = false;
    const down = (e: PointerEvent) => {
      if (e.button !== 0 || !(e.target instanceof Node) || !canvas.parentElement?.contains(e.target)) return;
      pressed = true;
      latest.current.onDown(spot(e), e.altKey);
    };
    const move = (e: PointerEvent) => latest.current.onMove(spot(e), pressed);
    const up = (e: PointerEvent) => {
      if (!pressed) return;
      pressed = false;
      latest.current.onUp(spot(e));
    };
    stage.addEventListener("pointerdown", down);
    stage.addEventListener("pointermove", move);
    window.addEventListener("pointerup", up);
    let before = "";
    const away = followFrames((frame) => {
      const now = frame.camera.matrixWorld.elements.map((x) => x.toFixed(4)).join();
      if (before && now !== before) latest.current.onTurned();
      before = now;
    });
    return () => {
      stage.removeEventListener("pointerdown", down);
      stage.removeEventListener("pointermove", move);
      window.removeEventListener("pointerup", up);
      away();
    };
  }, [inside]);
}

let now: Frame | null = null;
followFrames((frame) => {
  now = frame;
});

/** Where the eye is, and places on the ways from it through spots of the screen, as far away as what is looked at (mm on the stage). */
export function through(spots: Spot[]): { eye: Point; places: Point[] } | null {
  if (!now) return null;
  const { camera, width, height, target } = now;
  const eye = camera.position.clone();
  const far = eye.distanceTo(target);
  const places = spots.map(([x, y]): Point => {
    const way = new Vector3((x / width) * 2 - 1, 1 - (y / height) * 2, 0.5).unproject(camera).sub(eye).normalize();
    const place = eye.clone().addScaledVector(way, far);
    return [place.x, place.y, place.z];
  });
  return { eye: [eye.x, eye.y, eye.z], places };
}
