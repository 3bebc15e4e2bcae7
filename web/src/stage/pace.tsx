import { useFrame, useThree } from "@react-three/fiber";
import { useEffect } from "react";
import { BufferAttribute, BufferGeometry } from "three";
import { create } from "zustand";
import type { Loaded } from "./loader";

/** Pictures nearer to each other than this belong to one movement (ms). */
const TOGETHER_MS = 1000;
/** Of a movement that is slower than twenty pictures a second, surfaces are drawn coarsely. */
const SLOW_MS = 50;
const SLOW_PICTURES = 3;
/** So long after the last picture whatever moved is taken to rest: longer where pictures are slow in coming. */
const REST_MS = 250;

/** Is something moving that this machine draws too slowly in full? */
export const usePace = create(() => ({ coarse: false }));

/** Only what a hand moves is drawn coarsely; pictures that come by themselves, as results arrive, have time. So long a movement counts. */
const HAND_MS = 600;
let handled = Number.NEGATIVE_INFINITY;

/** Something is being moved now: by a hand, or since a hand set it going. */
export function moving() {
  handled = performance.now();
}

function byHand(event: Event) {
  if (!(event instanceof PointerEvent) || event.buttons !== 0) moving();
}

const HANDS = ["pointerdown", "pointermove", "wheel", "keydown", "input"] as const;

let last = 0;
let slow = 0;
let known = false;
let resting: ReturnType<typeof setTimeout> | undefined;

function draw(coarse: boolean) {
  // Said only when it changes: whoever hears of it draws.
  if (usePace.getState().coarse !== coarse) usePace.setState({ coarse });
}

function rest() {
  // The picture at rest is no part of a movement, however long it takes.
  last = 0;
  slow = 0;
  draw(false);
}

function paced(now: number) {
  if (now - handled > HAND_MS) return;
  const took = now - last;
  slow = took > TOGETHER_MS ? 0 : took > SLOW_MS ? slow + 1 : Math.max(slow - 1, 0);
  last = now;
  // A machine that was too slow once is not tried for so long again.
  if (slow >= (known ? 1 : SLOW_PICTURES)) {
    known = true;
    draw(true);
  }
  clearTimeout(resting);
  resting = setTimeout(rest, took > TOGETHER_MS ? TOGETHER_MS : Math.max(REST_MS, 2 * took));
}

/** Of the pixels at rest, along each side, where a machine is too slow. */
const COARSE_PIXELS = 0.4;

/** Watches how fast pictures follow each other. */
export function Pace({ sharpness }: { sharpness: number | [number, number] }) {
  const invalidate = useThree((s) => s.invalidate);
  const get = useThree((s) => s.get);
  useFrame(() => paced(performance.now()));
  useEffect(() => {
    const drawn = usePace.subscribe(({ coarse }) => {
      const { setDpr, viewport } = get();
      setDpr(coarse ? viewport.dpr * COARSE_PIXELS : sharpness);
      invalidate();
    });
    for (const kind of HANDS) window.addEventListener(kind, byHand, { capture: true, passive: true });
    return () => {
      for (const kind of HANDS) window.removeEventListener(kind, byHand, { capture: true });
      drawn();
      clearTimeout(resting);
      rest();
    };
  }, [get, invalidate, sharpness]);
  return null;
}

const CELLS = 52;
/** Fewer triangles than this are drawn as they are. */
const FEW = 40_000;

/** The same corners in fewer triangles: of those in one cell the first stands for all. Made once, when it is first needed. */
export function coarseOf(loaded: Loaded): BufferGeometry {
  loaded.coarse ??= loaded.triangles > FEW ? clustered(loaded.geometry) : loaded.geometry;
  return loaded.coarse;
}

function clustered(full: BufferGeometry): BufferGeometry {
  const at = full.getAttribute("position");
  const box = full.boundingBox;
  if (!full.index || !box) return full;
  const { min, max } = box;
  const cell = Math.max(max.x - min.x, max.y - min.y, max.z - min.z, 1e-6) / CELLS;
  const row = CELLS + 1;
  const first = new Int32Array(row ** 3).fill(-1);
  const stands = new Uint32Array(at.count);
  for (let i = 0; i < at.count; i++) {
    const x = Math.floor((at.getX(i) - min.x) / cell);
    const y = Math.floor((at.getY(i) - min.y) / cell);
    const z = Math.floor((at.getZ(i) - min.z) / cell);
    const key = (x * row + y) * row + z;
    if (first[key] === -1) first[key] = i;
    stands[i] = first[key] as number;
  }
  const { array } = full.index;
  const corners = new Uint32Array(array.length);
  let n = 0;
  for (let t = 0; t < array.length; t += 3) {
    const a = stands[array[t] as number] as number;
    const b = stands[array[t + 1] as number] as number;
    const c = stands[array[t + 2] as number] as number;
    if (a === b || b === c || c === a) continue;
    corners[n++] = a;
    corners[n++] = b;
    corners[n++] = c;
  }
  const out = new BufferGeometry();
  for (const [name, attribute] of Object.entries(full.attributes)) out.setAttribute(name, attribute);
  out.setIndex(new BufferAttribute(corners.slice(0, n), 1));
  out.boundingBox = full.boundingBox;
  out.boundingSphere = full.boundingSphere;
  return out;
}
