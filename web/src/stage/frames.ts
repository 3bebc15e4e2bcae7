import { type Camera, Vector3 } from "three";

/** Labels over the stage follow it: each drawn frame tells them where the camera stands. */
export interface Frame {
  camera: Camera;
  width: number;
  height: number;
  target: Vector3;
}

type Follower = (frame: Frame) => void;
const followers = new Set<Follower>();
let last: Frame | null = null;

export function tellFrame(frame: Frame): void {
  last = frame;
  for (const follower of followers) follower(frame);
}

export function followFrames(follower: Follower): () => void {
  followers.add(follower);
  if (last) follower(last);
  return () => {
    followers.delete(follower);
  };
}

const scratch = new Vector3();

/** Does a surface there look at the camera, rather than away from it or past it? */
export function facesViewer(point: [number, number, number], out: [number, number, number], frame: Frame): boolean {
  const to = new Vector3()
    .copy(frame.camera.position)
    .sub(new Vector3(...point))
    .normalize();
  return to.dot(new Vector3(...out).normalize()) > FACES;
}

// From so flat a view on (cosine) letters are read.
const FACES = 0.35;

/** Stage millimetres to pixels from the top left; null behind the camera. */
export function project(point: [number, number, number], frame: Frame): [number, number] | null {
  scratch.set(...point).project(frame.camera);
  if (scratch.z > 1) return null;
  return [((scratch.x + 1) / 2) * frame.width, ((1 - scratch.y) / 2) * frame.height];
}
