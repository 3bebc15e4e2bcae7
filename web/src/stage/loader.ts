import { BufferGeometry, type Material, Mesh } from "three";
import { MeshoptDecoder } from "three/examples/jsm/libs/meshopt_decoder.module.js";
import { GLTFLoader } from "three/examples/jsm/loaders/GLTFLoader.js";
import type { MeshBVH } from "three-mesh-bvh";

/** What a map shows, and how a byte of it reads: value = (byte − nought) · step. */
export interface Channel {
  name: string;
  unit: string;
  /** Where the colours end, on either side of nought. */
  ends: number;
  step: number;
  nought: number;
}

/** A mesh as the stage draws it: positions about origin_mm (home coordinates), so that float32 keeps its digits. */
export interface Loaded {
  geometry: BufferGeometry;
  origin: [number, number, number];
  triangles: number;
  light: boolean;
  /** Which mesh this shows; of a light copy, which mesh it stands for. */
  digest: string;
  channel: Channel | null;
  tree: Promise<MeshBVH | null> | null;
  /** For while it moves, where that has been needed. */
  coarse?: BufferGeometry;
}

const KEPT = 28;
const cache = new Map<string, { loading: Promise<Loaded>; users: number }>();
const gltf = new GLTFLoader().setMeshoptDecoder(MeshoptDecoder);
// Not a hook: the decoder's own switch for unpacking off the main thread.
const unpackInWorkers = MeshoptDecoder.useWorkers;
let workers = false;

async function fetched(digest: string, kind: "light" | "full"): Promise<Loaded> {
  if (!workers) {
    workers = true;
    unpackInWorkers?.(2);
  }
  let response: Response | null = null;
  for (let attempt = 0; ; attempt++) {
    response = await fetch(`/api/meshes/${digest}/${kind}.glb`);
    if (response.ok) break;
    if (attempt >= 4) throw new Error("The model could not be loaded. Go to the rack and back to try again.");
    await new Promise((done) => setTimeout(done, 600 * (attempt + 1)));
  }
  const parsed = await gltf.parseAsync(await response.arrayBuffer(), "");
  let found: Mesh | null = null;
  parsed.scene.traverse((node) => {
    if (node instanceof Mesh) found = node;
  });
  if (!found) throw new Error("The model that came holds no surface.");
  const mesh = found as Mesh;
  (mesh.material as Material).dispose();
  const extras = mesh.userData as {
    origin_mm?: [number, number, number];
    triangles?: number;
    light?: boolean;
    digest?: string;
    channel?: Channel;
  };
  const geometry = mesh.geometry;
  geometry.computeBoundingBox();
  geometry.computeBoundingSphere();
  await turn();
  return {
    geometry,
    origin: extras.origin_mm ?? [0, 0, 0],
    triangles: extras.triangles ?? (geometry.index?.count ?? 0) / 3,
    light: extras.light ?? false,
    digest: extras.digest ?? "",
    channel: extras.channel ?? null,
    tree: null,
  };
}

let last: Promise<unknown> = Promise.resolve();

/** Meshes come onto the stage one a frame: each has to be handed to the graphics card, which takes its time. */
function turn(): Promise<unknown> {
  last = last.then(() => new Promise((done) => requestAnimationFrame(() => requestAnimationFrame(done))));
  return last;
}

/** Ask for a mesh; give it back with `release`. The newest few stay in memory for instant undo. */
export function acquire(digest: string, kind: "light" | "full"): Promise<Loaded> {
  const key = `${digest}/${kind}`;
  const known = cache.get(key);
  const entry = known ?? { loading: fetched(digest, kind), users: 0 };
  cache.delete(key);
  cache.set(key, entry);
  entry.users += 1;
  if (!known) entry.loading.catch(() => cache.delete(key));
  return entry.loading;
}

export function release(digest: string, kind: "light" | "full"): void {
  const entry = cache.get(`${digest}/${kind}`);
  if (entry) entry.users -= 1;
  for (const [key, old] of cache) {
    if (cache.size <= KEPT) break;
    if (old.users > 0) continue;
    cache.delete(key);
    old.loading
      .then((loaded) => {
        loaded.coarse?.dispose();
        loaded.geometry.dispose();
      })
      .catch(() => {});
  }
}

let builder: Promise<{ generate: (geometry: BufferGeometry, options: object) => Promise<MeshBVH> }> | null = null;

async function bvhWorker() {
  const { GenerateMeshBVHWorker } = await import("three-mesh-bvh/worker");
  return new GenerateMeshBVHWorker() as unknown as {
    generate: (geometry: BufferGeometry, options: object) => Promise<MeshBVH>;
  };
}

let line: Promise<unknown> = Promise.resolve();

/** The search tree of a mesh, built off the main thread, once. null where it cannot be built. */
export function treeOf(loaded: Loaded): Promise<MeshBVH | null> {
  if (!loaded.tree) {
    // The worker takes its arrays away: it gets copies. It does one tree at a time.
    const job = line.then(async () => {
      builder ??= bvhWorker();
      const copy = new BufferGeometry();
      copy.setAttribute("position", loaded.geometry.attributes.position.clone());
      if (loaded.geometry.index) copy.setIndex(loaded.geometry.index.clone());
      return (await builder).generate(copy, { indirect: true, targetLeafSize: 12 });
    });
    line = job.catch(() => null);
    loaded.tree = job.catch(() => null);
  }
  return loaded.tree;
}
