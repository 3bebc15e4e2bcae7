import { createRoot, events, extend, type ReconcilerRoot } from "@react-three/fiber";
import { Component, type ReactNode, useEffect, useRef, useState } from "react";
import { BufferGeometry, Group, Mesh, PerspectiveCamera, Scene, WebGLRenderer } from "three";
import { Pace } from "./pace";
import { plasterMaterial } from "./plaster";

extend({ Group, Mesh });

/** The one canvas of the session. Asking for a context and linking the program take the page's time: once is enough. */
interface Kept {
  frame: HTMLDivElement;
  root: ReconcilerRoot<HTMLCanvasElement>;
}

let kept: Promise<Kept> | null = null;
const task = () => new Promise((done) => setTimeout(done));

/** Make the canvas ready before it is needed. Rejects where the browser does not draw in 3D. */
export function prepareStage(): Promise<Kept> {
  kept ??= make().catch((error) => {
    kept = null;
    throw error;
  });
  return kept;
}

/** Pixels of the window that are not stage, across and down: kept, for a canvas that has its size already need not be
 * made anew when the bench opens. */
const AROUND = "bench-around-stage";

function likelySize(): { width: number; height: number } {
  const [across, down] = (localStorage.getItem(AROUND) ?? "396,140").split(",").map(Number);
  return {
    width: Math.max(window.innerWidth - (across ?? 0), 200),
    height: Math.max(window.innerHeight - (down ?? 0), 200),
  };
}

/** Pixels drawn for each of the window, where somebody has said so: fewer than one for a browser without a graphics card. */
const SHARPNESS = "bench-stage-pixels";

const sharpness: number | [number, number] =
  Number(localStorage.getItem(SHARPNESS)) || (navigator.webdriver ? 1 : [1, 2]);

async function make(): Promise<Kept> {
  // Loading the code is a task of its own.
  await task();
  const canvas = document.createElement("canvas");
  canvas.style.display = "block";
  const frame = document.createElement("div");
  frame.className = "h-full w-full touch-none";
  frame.setAttribute("aria-label", "The stage");
  frame.append(canvas);
  const antialias = !navigator.webdriver;
  const context = canvas.getContext("webgl2", { alpha: true, antialias, powerPreference: "high-performance" });
  if (!context) throw new Error("This browser does not draw in 3D: WebGL 2 is switched off or missing.");
  await task();
  const renderer = new WebGLRenderer({ canvas, context, antialias, alpha: true });
  // Reading back what the compiler says would make the page wait for it.
  renderer.debug.checkShaderErrors = import.meta.env.DEV;
  await task();
  const camera = new PerspectiveCamera(24, 1, 1, 900);
  camera.up.set(0, 0, 1);
  camera.position.set(80, -230, 120);
  const root = createRoot(canvas);
  await root.configure({
    gl: () => renderer,
    events,
    frameloop: "demand",
    // Colours are given as the screen shows them.
    legacy: true,
    flat: true,
    linear: true,
    dpr: sharpness,
    camera,
    size: { ...likelySize(), top: 0, left: 0 },
    onCreated: (state) => state.events.connect?.(frame),
  });
  await task();
  startLinking(renderer, camera);
  return { frame, root };
}

/** The driver links the stage's program while nobody waits for it. */
function startLinking(renderer: WebGLRenderer, camera: PerspectiveCamera): void {
  const scene = new Scene();
  const geometry = new BufferGeometry();
  const empty = new Mesh(geometry, plasterMaterial());
  scene.add(empty);
  renderer.compile(scene, camera);
}

class Guard extends Component<{ children: ReactNode; failed: (error: Error) => void }, { broken: boolean }> {
  state = { broken: false };
  static getDerivedStateFromError() {
    return { broken: true };
  }
  componentDidCatch(error: Error) {
    this.props.failed(error);
  }
  render() {
    return this.state.broken ? null : this.props.children;
  }
}

/** What stands on the stage, drawn on the session's canvas. */
export function StageCanvas({ children }: { children: ReactNode }) {
  const host = useRef<HTMLDivElement>(null);
  const [stage, setStage] = useState<Kept | null>(null);
  const [error, setError] = useState<Error | null>(null);
  if (error) throw error;

  useEffect(() => {
    let here = true;
    let leave = () => {};
    task()
      .then(prepareStage)
      .then(({ frame, root }) => {
        const at = host.current;
        if (!here || !at) return;
        at.append(frame);
        const store = root.render(null);
        const fit = () => {
          const box = at.getBoundingClientRect();
          store.getState().setSize(box.width, box.height, box.top, box.left);
          localStorage.setItem(AROUND, `${window.innerWidth - box.width},${window.innerHeight - box.height}`);
        };
        fit();
        const sized = new ResizeObserver(fit);
        sized.observe(at);
        setStage({ frame, root });
        leave = () => {
          sized.disconnect();
          root.render(null);
          frame.remove();
        };
      }, setError);
    return () => {
      here = false;
      leave();
    };
  }, []);

  useEffect(() => {
    stage?.root.render(
      <Guard failed={setError}>
        <Pace sharpness={sharpness} />
        {children}
      </Guard>,
    );
  }, [stage, children]);
  return <div ref={host} className="h-full w-full" />;
}
