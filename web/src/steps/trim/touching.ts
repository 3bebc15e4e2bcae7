import type { BufferGeometry } from "three";

/*
 * Touch-up while the brush moves: the same as core/bitecore/ops/touch.py does when it is kept. What is changed here is changed there;
 * a browser test holds the two to a micrometre.
 */
const DAB_SHARE = 0.04;
export const DAB_STEP = 0.25;
const EDGES_TOO_LONG = 2 / Math.sqrt(3);

export type Kind = "add" | "carve" | "smooth";

/** A surface with every corner once, however often it is drawn: positions (mm about the origin of its view), and what meets where. */
export interface Surface {
  geometry: BufferGeometry;
  positions: Float64Array;
  before: Float64Array;
  faces: Uint32Array;
  /** Of each drawn corner, which it is; of each corner, where it is drawn. */
  of: Uint32Array;
  start: Uint32Array;
  which: Uint32Array;
  drawnStart: Uint32Array;
  drawn: Uint32Array;
  /** Is it on a tooth? */
  tooth: Uint8Array;
  away: Float64Array;
}

const rest = () => new Promise((done) => setTimeout(done));

/** Of what is drawn, its surface. In pieces, so that the page goes on. isTooth : by the colour of a drawn corner. */
export async function surfaceOf(geometry: BufferGeometry, isTooth: (drawn: number) => boolean): Promise<Surface> {
  const at = geometry.getAttribute("position");
  const index = geometry.index;
  if (!index) throw new Error("The surface has no triangles.");
  const known = new Map<string, number>();
  const of = new Uint32Array(at.count);
  const flat: number[] = [];
  for (let i = 0; i < at.count; i++) {
    const [x, y, z] = [at.getX(i), at.getY(i), at.getZ(i)];
    const key = `${x},${y},${z}`;
    let n = known.get(key);
    if (n === undefined) {
      n = flat.length / 3;
      known.set(key, n);
      flat.push(x, y, z);
    }
    of[i] = n;
    if (i % 20_000 === 19_999) await rest();
  }
  const count = flat.length / 3;
  const faces = new Uint32Array(index.count);
  for (let i = 0; i < index.count; i++) faces[i] = of[index.getX(i)] ?? 0;
  await rest();
  const [start, which] = grouped(faces, count, (i) => Math.floor(i / 3));
  await rest();
  const [drawnStart, drawn] = grouped(of, count, (i) => i);
  const tooth = new Uint8Array(count);
  for (let i = 0; i < at.count; i++) if (isTooth(i)) tooth[of[i] ?? 0] = 1;
  const positions = Float64Array.from(flat);
  const away = new Float64Array(count).fill(Number.POSITIVE_INFINITY);
  return { geometry, positions, before: positions.slice(), faces, of, start, which, drawnStart, drawn, tooth, away };
}

/** For each of `count`, what names it: value(i) of every i with of[i] equal to it. */
function grouped(of: Uint32Array, count: number, value: (i: number) => number): [Uint32Array, Uint32Array] {
  const start = new Uint32Array(count + 1);
  for (const n of of) start[n + 1] = (start[n + 1] ?? 0) + 1;
  for (let n = 0; n < count; n++) start[n + 1] = (start[n + 1] ?? 0) + (start[n] ?? 0);
  const slot = start.slice(0, count);
  const out = new Uint32Array(of.length);
  of.forEach((n, i) => {
    const s = slot[n] ?? 0;
    out[s] = value(i);
    slot[n] = s + 1;
  });
  return [start, out];
}

interface Dab {
  first: number;
  kind: Kind;
  radius: number;
  strength: number;
  /** Teeth may be moved too. */
  teeth: boolean;
}

/** One dab on the surface; returns the corners that were moved. */
export function dab(s: Surface, { first, kind, radius, strength, teeth }: Dab): number[] {
  const touched = reached(s, first, radius * EDGES_TOO_LONG);
  const weight = touched.map((i) => {
    const far = Math.max(apart(s.positions, i, first), (s.away[i] ?? 0) / EDGES_TOO_LONG) / radius;
    return far < 1 ? (1 - far * far) ** 2 : 0;
  });
  const moved =
    kind === "smooth" ? smoothed(s, touched, weight, strength) : raised(s, touched, weight, kind, radius * strength);
  touched.forEach((i, q) => {
    s.away[i] = Number.POSITIVE_INFINITY;
    if (!teeth && s.tooth[i]) return;
    for (let k = 0; k < 3; k++) s.positions[3 * i + k] = (s.positions[3 * i + k] ?? 0) + (moved[3 * q + k] ?? 0);
  });
  return touched;
}

function apart(p: Float64Array, a: number, b: number): number {
  const x = (p[3 * a] ?? 0) - (p[3 * b] ?? 0);
  const y = (p[3 * a + 1] ?? 0) - (p[3 * b + 1] ?? 0);
  const z = (p[3 * a + 2] ?? 0) - (p[3 * b + 2] ?? 0);
  return Math.sqrt(x * x + y * y + z * z);
}

/** Corners whose way along edges from the first is below `most`; their ways stand in s.away. */
function reached(s: Surface, first: number, most: number): number[] {
  const touched = [first];
  s.away[first] = 0;
  const heap: [number, number][] = [[0, first]];
  for (let top = drop(heap); top; top = drop(heap)) {
    const [key, i] = top;
    if (key > (s.away[i] ?? 0)) continue;
    for (let q = s.start[i] ?? 0; q < (s.start[i + 1] ?? 0); q++) {
      const f = 3 * (s.which[q] ?? 0);
      for (let k = 0; k < 3; k++) {
        const c = s.faces[f + k] ?? 0;
        if (c === i) continue;
        const t = key + apart(s.positions, i, c);
        const was = s.away[c] ?? 0;
        if (t >= most || t >= was) continue;
        if (was === Number.POSITIVE_INFINITY) touched.push(c);
        s.away[c] = t;
        push(heap, [t, c]);
      }
    }
  }
  return touched;
}

function smoothed(s: Surface, touched: number[], weight: number[], strength: number): Float64Array {
  const moved = new Float64Array(3 * touched.length);
  touched.forEach((i, q) => {
    const sum = [0, 0, 0];
    let n = 0;
    for (let e = s.start[i] ?? 0; e < (s.start[i + 1] ?? 0); e++) {
      const f = 3 * (s.which[e] ?? 0);
      for (let k = 0; k < 3; k++) {
        const c = s.faces[f + k] ?? 0;
        if (c === i) continue;
        for (let a = 0; a < 3; a++) sum[a] = (sum[a] ?? 0) + (s.positions[3 * c + a] ?? 0);
        n++;
      }
    }
    const share = (strength * (weight[q] ?? 0)) / n;
    for (let a = 0; a < 3; a++) moved[3 * q + a] = share * ((sum[a] ?? 0) - n * (s.positions[3 * i + a] ?? 0));
  });
  return moved;
}

function raised(s: Surface, touched: number[], weight: number[], kind: Kind, size: number): Float64Array {
  const p = s.positions;
  let [x, y, z] = [0, 0, 0];
  touched.forEach((i, q) => {
    const w = weight[q] ?? 0;
    for (let e = s.start[i] ?? 0; e < (s.start[i + 1] ?? 0); e++) {
      const f = 3 * (s.which[e] ?? 0);
      const [a, b, c] = [3 * (s.faces[f] ?? 0), 3 * (s.faces[f + 1] ?? 0), 3 * (s.faces[f + 2] ?? 0)];
      const [ux, uy, uz] = [0, 1, 2].map((k) => (p[b + k] ?? 0) - (p[a + k] ?? 0)) as [number, number, number];
      const [vx, vy, vz] = [0, 1, 2].map((k) => (p[c + k] ?? 0) - (p[a + k] ?? 0)) as [number, number, number];
      x += w * (uy * vz - uz * vy);
      y += w * (uz * vx - ux * vz);
      z += w * (ux * vy - uy * vx);
    }
  });
  const long = Math.sqrt(x * x + y * y + z * z) || 1;
  const far = (size * DAB_SHARE * (kind === "add" ? 1 : -1)) / long;
  const moved = new Float64Array(3 * touched.length);
  touched.forEach((_, q) => {
    const w = far * (weight[q] ?? 0);
    moved[3 * q] = w * x;
    moved[3 * q + 1] = w * y;
    moved[3 * q + 2] = w * z;
  });
  return moved;
}

function push(heap: [number, number][], item: [number, number]): void {
  let i = heap.push(item) - 1;
  while (i > 0) {
    const up = (i - 1) >> 1;
    const above = heap[up];
    if (!above || above[0] <= item[0]) break;
    heap[i] = above;
    i = up;
  }
  heap[i] = item;
}

function drop(heap: [number, number][]): [number, number] | undefined {
  const top = heap[0];
  const last = heap.pop();
  if (!last || heap.length === 0) return top;
  let i = 0;
  for (;;) {
    let child = 2 * i + 1;
    const right = heap[child + 1];
    if (right && right[0] < (heap[child]?.[0] ?? 0)) child++;
    const next = heap[child];
    if (!next || next[0] >= last[0]) break;
    heap[i] = next;
    i = child;
  }
  heap[i] = last;
  return top;
}

/** What was moved, onto the stage: places, and the light on them. */
export function shown(s: Surface, moved: Iterable<number>): void {
  const at = s.geometry.getAttribute("position");
  const normal = s.geometry.getAttribute("normal");
  const p = s.positions;
  let [low, high] = [Number.POSITIVE_INFINITY, -1];
  for (const i of moved) {
    let [x, y, z] = [0, 0, 0];
    for (let e = s.start[i] ?? 0; e < (s.start[i + 1] ?? 0); e++) {
      const f = 3 * (s.which[e] ?? 0);
      const [a, b, c] = [3 * (s.faces[f] ?? 0), 3 * (s.faces[f + 1] ?? 0), 3 * (s.faces[f + 2] ?? 0)];
      const [ux, uy, uz] = [0, 1, 2].map((k) => (p[b + k] ?? 0) - (p[a + k] ?? 0)) as [number, number, number];
      const [vx, vy, vz] = [0, 1, 2].map((k) => (p[c + k] ?? 0) - (p[a + k] ?? 0)) as [number, number, number];
      x += uy * vz - uz * vy;
      y += uz * vx - ux * vz;
      z += ux * vy - uy * vx;
    }
    const long = Math.sqrt(x * x + y * y + z * z) || 1;
    for (let e = s.drawnStart[i] ?? 0; e < (s.drawnStart[i + 1] ?? 0); e++) {
      const d = s.drawn[e] ?? 0;
      at.setXYZ(d, p[3 * i] ?? 0, p[3 * i + 1] ?? 0, p[3 * i + 2] ?? 0);
      normal.setXYZ(d, x / long, y / long, z / long);
      low = Math.min(low, d);
      high = Math.max(high, d);
    }
  }
  if (high < 0) return;
  for (const attribute of [at, normal]) {
    if ("addUpdateRange" in attribute)
      attribute.addUpdateRange(low * attribute.itemSize, (high - low + 1) * attribute.itemSize);
    attribute.needsUpdate = true;
  }
}

/** How far the surface was moved at most, and how many corners more than a micrometre. */
export function howFar(s: Surface): { most: number; corners: number } {
  let most = 0;
  let corners = 0;
  for (let i = 0; i < s.tooth.length; i++) {
    const x = (s.positions[3 * i] ?? 0) - (s.before[3 * i] ?? 0);
    const y = (s.positions[3 * i + 1] ?? 0) - (s.before[3 * i + 1] ?? 0);
    const z = (s.positions[3 * i + 2] ?? 0) - (s.before[3 * i + 2] ?? 0);
    const far = Math.sqrt(x * x + y * y + z * z);
    if (far > 0.001) corners++;
    most = Math.max(most, far);
  }
  return { most, corners };
}
