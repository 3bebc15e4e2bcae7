import { useEffect, useRef } from "react";
import { type PerspectiveCamera, Vector3 } from "three";
import { type Frame, followFrames } from "./frames";

const ARCH: [number, number][] = Array.from({ length: 25 }, (_, i) => {
  const t = (i / 24) * Math.PI;
  return [Math.cos(t) * 26, 14 - Math.sin(t) * 34];
});
const LEGS = { left: [26, 34] as [number, number], right: [-26, 34] as [number, number] };

/** The floor of the mouth seen from where the eye is: a horseshoe, the patient's R and L, an arrow to the front.
 * On the plate bodies lie turned each its own way: there only the scale is shown. */
export function FacingMark({ arch }: { arch: boolean }) {
  const path = useRef<SVGPathElement>(null);
  const arrow = useRef<SVGPathElement>(null);
  const r = useRef<SVGTextElement>(null);
  const l = useRef<SVGTextElement>(null);
  const bar = useRef<HTMLDivElement>(null);
  const words = useRef<HTMLSpanElement>(null);
  useEffect(
    () =>
      followFrames((frame) => {
        const at = flat(frame);
        const points = [LEGS.left, ...ARCH, LEGS.right].map(at);
        path.current?.setAttribute("d", `M${points.map((p) => p.join(",")).join("L")}`);
        const tip = at([0, -40]);
        const tail = at([0, -6]);
        const a = at([-5, -31]);
        const b = at([5, -31]);
        arrow.current?.setAttribute("d", `M${tail}L${tip}M${a}L${tip}L${b}`);
        place(r.current, at([-36, 6]));
        place(l.current, at([36, 6]));
        scale(frame, bar.current, words.current);
      }),
    [],
  );
  return (
    <div className="pointer-events-none absolute right-5 bottom-4 flex flex-col items-center gap-1" aria-hidden="true">
      <svg width="104" height="92" viewBox="-52 -46 104 92" role="presentation" className={arch ? "" : "hidden"}>
        <path ref={path} fill="none" stroke="var(--dim)" strokeWidth="3" strokeLinejoin="round" strokeLinecap="round" />
        <path ref={arrow} fill="none" stroke="var(--color-accent)" strokeWidth="2.4" strokeLinecap="round" />
        <text ref={r} className="fill-base-content text-[13px] font-bold" textAnchor="middle">
          R
        </text>
        <text ref={l} className="fill-base-content text-[13px] font-bold" textAnchor="middle">
          L
        </text>
      </svg>
      <div className="dim flex items-center gap-2 text-xs">
        <span ref={words} />
        <div ref={bar} className="h-2 border-x-2 border-b-2 border-[var(--dim)]" />
      </div>
    </div>
  );
}

const forward = new Vector3();
const right = new Vector3();
const up = new Vector3();

function flat(frame: Frame): (p: [number, number]) => [number, number] {
  frame.camera.matrixWorld.extractBasis(right, up, forward);
  return ([x, y]) => [+(right.x * x + right.y * y).toFixed(1), +(-(up.x * x + up.y * y)).toFixed(1)];
}

function place(text: SVGTextElement | null, at: [number, number]) {
  text?.setAttribute("x", String(at[0]));
  text?.setAttribute("y", String(at[1] + 4.5));
}

/** A round number of millimetres at the middle of the view, as long as it is on the screen. */
function scale(frame: Frame, bar: HTMLDivElement | null, words: HTMLSpanElement | null) {
  const distance = frame.camera.position.distanceTo(frame.target);
  const fov = ((frame.camera as PerspectiveCamera).fov * Math.PI) / 180;
  const pixels = frame.height / (2 * Math.tan(fov / 2) * distance);
  const mm = [1, 2, 5, 10, 20, 50, 100].find((n) => n * pixels > 34) ?? 100;
  if (bar) bar.style.width = `${Math.round(mm * pixels)}px`;
  if (words) words.textContent = `${mm} mm`;
}
