import { type ThreeEvent, useThree } from "@react-three/fiber";
import { memo, useEffect, useMemo, useRef } from "react";
import {
  Box3,
  type BufferGeometry,
  type Intersection,
  LinearSRGBColorSpace,
  Matrix4,
  type Mesh,
  Ray,
  type Raycaster,
  Vector3,
} from "three";
import type { MeshBVH } from "three-mesh-bvh";
import { type Point, useBench } from "../../store/bench";
import { type Channel, treeOf } from "./loader";
import { MODE, plasterMaterial } from "./plaster";
import type { Saws, Shown } from "./scene";
import { useLoaded } from "./useLoaded";

/** Where a drawn mesh is on the stage, and whether it is still the light copy. */
export interface Bounds {
  box: Box3;
  light: boolean;
}

interface Props {
  shown: Shown;
  ghost: boolean;
  saws: Saws | null;
  layer?: number;
  onMark?: (shown: Shown, home: Point) => void;
  /** Given while the swab is in hand: a place under it, in the scan's home. */
  onBrush?: (shown: Shown, home: Point, start: boolean, adds: boolean) => void;
  onBounds: (key: string, bounds: Bounds | null) => void;
}

/** What lies on another surface: no body of its own. */
const OVER = new Set<Shown["role"]>(["goes", "touch", "deep"]);
const MODE_OF: Partial<Record<Shown["role"], number>> = {
  goes: MODE.goes,
  touch: MODE.foil,
  deep: MODE.dotted,
  map: MODE.map,
};

/** One mesh of the case in its place. */
export const Model = memo(function Model({ shown, ghost, saws, layer = 0, onMark, onBrush, onBounds }: Props) {
  const onStage = useLoaded(shown.digest, shown.early?.sha256 ?? null);
  const loaded = onStage?.loaded ?? null;
  // Not disposed of: it owns nothing, and the last one to go would take the program with it.
  const material = useMemo(plasterMaterial, []);
  const mesh = useRef<Mesh>(null);
  const tree = useRef<MeshBVH | null>(null);
  const tool = useBench((s) => s.tool);
  const measure = useBench((s) => s.measure);
  const underPointer = useBench((s) => s.underPointer);
  const picks = shown.role === "map" || tool === "gauge" || tool === "marks" || tool === "plane";
  const invalidate = useThree((s) => s.invalidate);

  useEffect(() => {
    tree.current = null;
    let here = true;
    // Only the full surface is measured on, and only when someone is going to.
    if (loaded && !loaded.light && picks)
      treeOf(loaded).then((t) => {
        if (here) tree.current = t;
      });
    return () => {
      here = false;
    };
  }, [loaded, picks]);

  const unit = onStage?.ofFile ? (shown.early?.unit_mm ?? 1) : 1;
  const matrix = useMemo(() => {
    const out = shown.matrix.clone().multiply(new Matrix4().makeScale(unit, unit, unit));
    return loaded ? out.multiply(new Matrix4().makeTranslation(...loaded.origin)) : out;
  }, [shown.matrix, loaded, unit]);

  useEffect(() => {
    if (!loaded || OVER.has(shown.role)) return;
    onBounds(shown.key, { box: boxOf(loaded.geometry, matrix), light: loaded.light });
    return () => onBounds(shown.key, null);
  }, [loaded, matrix, shown.key, shown.role, onBounds]);

  useEffect(() => {
    const u = material.uniforms;
    u.uOrigin.value = loaded?.origin ?? [0, 0, 0];
    if (loaded?.channel) u.uScale.value.set(loaded.channel.nought, loaded.channel.step);
    u.uMode.value = MODE_OF[shown.role] ?? (saws ? MODE.sawn : MODE.plaster);
    if (shown.role === "touch") u.uInk.value.setStyle("#1d3f8a", LinearSRGBColorSpace);
    if (shown.role === "deep") u.uInk.value.setStyle("#a3172a", LinearSRGBColorSpace);
    if (saws)
      [saws.bottom, saws.back].forEach((saw, i) => {
        const d = -(saw.keep[0] * saw.point[0] + saw.keep[1] * saw.point[1] + saw.keep[2] * saw.point[2]);
        if (saw.on) u.uSaw.value[i].set(...saw.keep, d);
        else u.uSaw.value[i].set(0, 0, 0, 1);
      });
    u.uOpacity.value = ghost ? 0.3 : 1;
    material.depthWrite = !ghost;
    // What goes lies exactly under what stays: it is drawn a hair behind; marks of contact a hair before.
    // A scan that lies on a jaw shares its surface: its map is drawn before it.
    material.polygonOffset = OVER.has(shown.role) || shown.role === "map";
    const behind = shown.role === "goes" ? 1 : shown.role === "deep" ? -4 : shown.role === "map" ? -3 : -1;
    material.polygonOffsetFactor = 2 * behind;
    material.polygonOffsetUnits = 4 * behind;
    invalidate();
  }, [material, loaded, shown.role, saws, ghost, invalidate]);

  if (!loaded) return null;

  function raycast(caster: Raycaster, hits: Intersection[]) {
    const at = mesh.current;
    if (!tree.current || !at || !picks || ghost || OVER.has(shown.role)) return;
    const back = at.matrixWorld.clone().invert();
    const ray = new Ray().copy(caster.ray).applyMatrix4(back);
    const hit = tree.current.raycastFirst(ray, material.side);
    if (!hit) return;
    const point = hit.point.clone().applyMatrix4(at.matrixWorld);
    hits.push({ ...hit, point, distance: point.distanceTo(caster.ray.origin), object: at });
  }

  function onPointerMove(event: ThreeEvent<PointerEvent>) {
    if (shown.role === "map") underPointer(mapValue(event, loaded?.channel ?? null));
    if (event.buttons === 1) brushAt(event, false);
  }

  function brushAt(event: ThreeEvent<PointerEvent>, start: boolean) {
    if (!onBrush || event.button > 0) return;
    event.stopPropagation();
    const home = event.point.clone().applyMatrix4(shown.matrix.clone().invert());
    onBrush(shown, [home.x, home.y, home.z], start, !event.altKey);
  }

  function onClick(event: ThreeEvent<MouseEvent>) {
    if (!tool || !picks || event.delta > 4) return;
    event.stopPropagation();
    const { x, y, z } = event.point;
    if (tool === "gauge") return measure([x, y, z]);
    const home = event.point.clone().applyMatrix4(shown.matrix.clone().invert());
    onMark?.(shown, [home.x, home.y, home.z]);
  }

  return (
    <mesh
      ref={mesh}
      geometry={loaded.geometry}
      material={material}
      matrix={matrix}
      matrixAutoUpdate={false}
      layers={layer}
      renderOrder={ghost ? 2 : 0}
      raycast={raycast}
      onClick={onClick}
      onPointerDown={onBrush ? (e) => brushAt(e, true) : undefined}
      onPointerMove={shown.role === "map" ? onPointerMove : undefined}
      onPointerOut={shown.role === "map" ? () => underPointer(null) : undefined}
      dispose={null}
      userData={{ triangles: loaded.triangles, light: loaded.light, piece: shown.piece, matrix }}
    />
  );
});

/** The mean of the known corners of the triangle under the pointer, in the unit of the map; null where nothing is known. */
function mapValue(event: ThreeEvent<PointerEvent>, channel: Channel | null): number | null {
  const { face, object } = event;
  const colours = (object as Mesh).geometry.getAttribute("color");
  if (!face || !colours || !channel) return null;
  const bytes = colours.normalized ? 255 : 1;
  const known = [face.a, face.b, face.c].filter((i) => colours.getW(i) > 0).map((i) => colours.getY(i) * bytes);
  if (known.length === 0) return null;
  return (known.reduce((a, b) => a + b, 0) / known.length - channel.nought) * channel.step;
}

const BOXED = 20_000;

/** What a mesh takes up once it is turned: the box of a turned box is far too large. From some thousand of its points. */
function boxOf(geometry: BufferGeometry, matrix: Matrix4): Box3 {
  const at = geometry.getAttribute("position");
  const box = new Box3();
  const point = new Vector3();
  const stride = Math.max(1, Math.floor(at.count / BOXED));
  for (let i = 0; i < at.count; i += stride) box.expandByPoint(point.fromBufferAttribute(at, i).applyMatrix4(matrix));
  return box;
}
