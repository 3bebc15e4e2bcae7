import { DoubleSide, type Intersection, Plane, Ray, Vector3 } from "three";
import type { MeshBVH } from "three-mesh-bvh";
import type { Point } from "../store/bench";
import type { Cut } from "./kit";

const TOUCHING = 0.02;

/** The plane of a cut among the corners of a geometry about `origin`. */
export function planeOf(cut: Cut, origin: Point): Plane {
  const point = new Vector3(...cut.point).sub(new Vector3(...origin));
  return new Plane().setFromNormalAndCoplanarPoint(new Vector3(...cut.keep), point);
}

/** What a ray meets first of what is not cut away; a cut face is met where the ray goes through its plane, and has no face. */
export function firstLeft(tree: MeshBVH, ray: Ray, planes: Plane[]): Intersection | null {
  const left = tree
    .raycast(ray, DoubleSide)
    .sort((a, b) => a.distance - b.distance)
    .find((hit) => planes.every((plane) => plane.distanceToPoint(hit.point) >= 0));
  if (!left?.face || left.face.normal.dot(ray.direction) <= 0) return left ?? null;
  // It leaves the body there: it went in through a cut, the last of those it crosses.
  const entered = planes
    .map((plane) => ray.intersectPlane(plane, new Vector3()))
    .filter((p): p is Vector3 => p !== null)
    .sort((a, b) => b.distanceTo(ray.origin) - a.distanceTo(ray.origin))[0];
  return entered ? { ...left, point: entered, face: null } : left;
}

/** How thick a body is: straight in from its surface where the outward normal is known, else across the nearest surface. */
export function thicknessAt(tree: MeshBVH, at: Vector3, normal: Vector3 | null): number | null {
  if (normal) return beyond(tree, at, normal.clone().negate());
  const nearest = tree.closestPointToPoint(at);
  if (!nearest) return null;
  const way = at.clone().sub(nearest.point);
  const near = way.length();
  const far = near > 1e-6 ? beyond(tree, at, way.normalize()) : null;
  return far === null ? null : near + far;
}

function beyond(tree: MeshBVH, at: Vector3, way: Vector3): number | null {
  const hit = tree.raycastFirst(new Ray(at.clone().addScaledVector(way, TOUCHING), way), DoubleSide);
  return hit ? hit.distance + TOUCHING : null;
}
