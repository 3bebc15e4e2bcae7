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
import { type Point, useBench } from "../store/bench";
import { awaited } from "./awaited";
import type { Bounds, Corners, Cut, Probed, Shown } from "./kit";
import { type Channel, treeOf } from "./loader";
import { useLegend } from "./MapLegend";
import { coarseOf, usePace } from "./pace";
import { LOOKS, MODE, plasterMaterial } from "./plaster";
import { firstLeft, planeOf, thicknessAt } from "./probing";
import { useLoaded } from "./useLoaded";

interface Props {
  shown: Shown;
  ghost: boolean;
  /** Behind these the surface is hatched. */
  cuts: [Cut, Cut] | null;
  layer?: number;
  /** Is a click on a surface for the tool in the hand? */
  picks: boolean;
  onPick: (shown: Shown, home: Point, stage: Point) => void;
  /** Given while the swab is in hand: a place under it, in the scan's home. */
  onBrush?: (shown: Shown, home: Point, start: boolean, adds: boolean, face: Corners | null) => void;
  /** Given while the tool in the hand asks how thick bodies are. */
  onProbe?: (probed: Probed | null) => void;
  onBounds: (key: string, bounds: Bounds | null) => void;
}

/** One mesh of the case in its place. */
export const Model = memo(function Model({
  shown,
  ghost,
  cuts,
  layer = 0,
  picks: toolPicks,
  onPick,
  onBrush,
  onProbe,
  onBounds,
}: Props) {
  const onStage = useLoaded(shown.digest, shown.early?.sha256 ?? null);
  const loaded = onStage?.loaded ?? null;
  // Not disposed of: it owns nothing, and the last one to go would take the program with it.
  const material = useMemo(plasterMaterial, []);
  const mesh = useRef<Mesh>(null);
  const tree = useRef<MeshBVH | null>(null);
  const underPointer = useBench((s) => s.underPointer);
  const coarse = usePace((s) => s.coarse);
  const look = LOOKS[shown.drawn];
  const isMap = shown.drawn === "map";
  const picks = isMap || toolPicks || onProbe !== undefined;
  const away = cuts?.some((cut) => cut.on && cut.away) ?? false;
  const invalidate = useThree((s) => s.invalidate);

  useEffect(() => {
    tree.current = null;
    if (!picks || ghost || look.lies) return;
    let here = true;
    const came = awaited(shown.key);
    // Only the full surface is measured on, and only when someone is going to.
    if (loaded && !loaded.light)
      treeOf(loaded).then((t) => {
        if (here) tree.current = t;
        came();
      });
    return () => {
      here = false;
      came();
    };
  }, [loaded, picks, shown.key, ghost, look.lies]);

  const channel = loaded?.channel ?? null;
  useEffect(() => {
    if (!isMap || !channel) return;
    useLegend.setState({ channel });
    return () => useLegend.setState((s) => (s.channel === channel ? { channel: null } : s));
  }, [isMap, channel]);

  const unit = onStage?.ofFile ? (shown.early?.unit_mm ?? 1) : 1;
  const matrix = useMemo(() => {
    const out = shown.matrix.clone().multiply(new Matrix4().makeScale(unit, unit, unit));
    return loaded ? out.multiply(new Matrix4().makeTranslation(...loaded.origin)) : out;
  }, [shown.matrix, loaded, unit]);

  useEffect(() => {
    if (!loaded || look.lies) return;
    onBounds(shown.key, { box: boxOf(loaded.geometry, matrix), light: loaded.light });
    return () => onBounds(shown.key, null);
  }, [loaded, matrix, shown.key, look, onBounds]);

  useEffect(() => {
    const u = material.uniforms;
    u.uOrigin.value = loaded?.origin ?? [0, 0, 0];
    if (loaded?.channel) u.uScale.value.set(loaded.channel.nought, loaded.channel.step);
    u.uReach.value = loaded?.channel?.ends ?? 1;
    u.uMode.value = cuts && look.mode === MODE.plaster ? (away ? MODE.gone : MODE.sawn) : look.mode;
    if (look.ink) u.uInk.value.setStyle(look.ink, LinearSRGBColorSpace);
    cuts?.forEach((cut, i) => {
      const d = -(cut.keep[0] * cut.point[0] + cut.keep[1] * cut.point[1] + cut.keep[2] * cut.point[2]);
      if (cut.on) u.uSaw.value[i].set(...cut.keep, d);
      else u.uSaw.value[i].set(0, 0, 0, 1);
    });
    u.uOpacity.value = ghost ? 0.3 : 1;
    material.depthWrite = !ghost;
    material.polygonOffset = look.behind !== 0;
    material.polygonOffsetFactor = look.even ? 0 : 2 * look.behind;
    material.polygonOffsetUnits = 4 * look.behind;
    invalidate();
  }, [material, loaded, look, cuts, away, ghost, invalidate]);

  if (!loaded) return null;

  function raycast(caster: Raycaster, hits: Intersection[]) {
    const at = mesh.current;
    if (!tree.current || !at || !picks || ghost || look.lies) return;
    const back = at.matrixWorld.clone().invert();
    const ray = new Ray().copy(caster.ray).applyMatrix4(back);
    const planes = away && cuts ? cuts.filter((c) => c.on).map((c) => planeOf(c, loaded?.origin ?? [0, 0, 0])) : [];
    const hit = planes.length ? firstLeft(tree.current, ray, planes) : tree.current.raycastFirst(ray, material.side);
    if (!hit) return;
    const point = hit.point.clone().applyMatrix4(at.matrixWorld);
    hits.push({ ...hit, point, distance: point.distanceTo(caster.ray.origin), object: at });
  }

  function probe(event: ThreeEvent<PointerEvent>) {
    const at = mesh.current;
    if (!onProbe || !tree.current || !at || event.buttons) return;
    event.stopPropagation();
    const local = event.point.clone().applyMatrix4(at.matrixWorld.clone().invert());
    const mm = thicknessAt(tree.current, local, event.face?.normal ?? null);
    onProbe(mm === null ? null : { at: [event.point.x, event.point.y, event.point.z], mm });
  }

  function onPointerMove(event: ThreeEvent<PointerEvent>) {
    probe(event);
    if (isMap) underPointer(mapValue(event, loaded?.channel ?? null));
    if (event.buttons === 1) brushAt(event, false);
  }

  function onPointerOut() {
    onProbe?.(null);
    if (isMap) underPointer(null);
  }

  function brushAt(event: ThreeEvent<PointerEvent>, start: boolean) {
    if (!onBrush || event.button > 0) return;
    event.stopPropagation();
    const home = event.point.clone().applyMatrix4(shown.matrix.clone().invert());
    const { face } = event;
    onBrush(shown, [home.x, home.y, home.z], start, !event.altKey, face ? [face.a, face.b, face.c] : null);
  }

  function onClick(event: ThreeEvent<MouseEvent>) {
    if (!toolPicks || event.delta > 4) return;
    event.stopPropagation();
    const { x, y, z } = event.point;
    const home = event.point.clone().applyMatrix4(shown.matrix.clone().invert());
    onPick(shown, [home.x, home.y, home.z], [x, y, z]);
  }

  return (
    <mesh
      ref={mesh}
      geometry={coarse ? coarseOf(loaded) : loaded.geometry}
      material={material}
      matrix={matrix}
      matrixAutoUpdate={false}
      layers={layer}
      renderOrder={ghost ? 2 : 0}
      raycast={raycast}
      onClick={onClick}
      onPointerDown={onBrush ? (e) => brushAt(e, true) : undefined}
      onPointerMove={isMap || onProbe || onBrush ? onPointerMove : undefined}
      onPointerOut={isMap || onProbe ? onPointerOut : undefined}
      dispose={null}
      userData={{ triangles: loaded.triangles, light: loaded.light, piece: shown.still ? null : shown.piece, matrix }}
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
