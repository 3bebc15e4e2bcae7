import { useRef, useState } from "react";
import type { Plate } from "../../shared/api/client";
import { duration } from "../../shared/format";
import { Drag } from "../../stage";
import { layerAt } from "./layer";
import type { PlateDoings } from "./usePlate";

/** How high the lower layers are where they are thicker; 0: all are as fine. */
export function thickOf(plate: Plate): number {
  return Number(plate.settings.pack?.thick_mm ?? 0) || 0;
}

/** Up to where the layers are that high; 0: none is. */
export function thickUp(plate: Plate, ends: number[]): number {
  const thick = thickOf(plate);
  if (thick === 0) return 0;
  return ends.reduce((top, end, k) => (end - (ends[k - 1] ?? 0) > thick - 1e-6 ? end : top), 0);
}

/** A height on the plate as whole thick layers, within it. */
export function inLayers(z: number, thick: number, top: number): number {
  return Math.round(Math.round(Math.min(Math.max(z, 0), top) / thick) * thick * 1000) / 1000;
}

interface Props {
  plate: Plate;
  ends: number[];
  thick: number;
  saved: number;
  doings: PlateDoings;
}

/** Up to where layers are thick: a line on the ruler that is pulled, or moved by a layer with the arrow keys. */
export function Boundary({ plate, ends, thick, saved, doings }: Props) {
  const rail = useRef<HTMLDivElement>(null);
  const [pulled, setPulled] = useState<number | null>(null);
  const drag = useRef<Drag | null>(null);
  const count = ends.length;
  const now = thickUp(plate, ends);
  const up = pulled ?? now;
  const at = up > 0 ? (layerAt(ends, up - 1e-6) + 1) / count : 0;
  const top = ends[count - 1] ?? 0;
  const set = (z: number) => doings.set("pack", { thick_up_mm: inLayers(z, thick, top) });
  function under(clientX: number): number {
    const box = rail.current?.getBoundingClientRect();
    if (!box) return up;
    const share = Math.min(Math.max((clientX - box.left) / box.width, 0), 1);
    const z = ends[Math.min(Math.floor(share * count), count - 1)] ?? 0;
    return inLayers(z, thick, top);
  }
  const minutes = saved > 0 && pulled === null ? `, saves ${duration(saved / 60)}` : "";
  return (
    <div ref={rail} className="pointer-events-none absolute inset-0">
      <div
        className="pointer-events-auto absolute inset-y-0 w-3 -translate-x-1/2 cursor-col-resize touch-none"
        style={{ left: `${at * 100}%` }}
        role="slider"
        tabIndex={0}
        aria-label="Thick layers up to"
        aria-valuemin={0}
        aria-valuemax={top}
        aria-valuenow={up}
        aria-valuetext={`${up.toFixed(2)} mm`}
        onPointerDown={(e) => {
          e.currentTarget.setPointerCapture(e.pointerId);
          drag.current = new Drag(e);
          setPulled(up);
        }}
        onPointerMove={(e) => pulled !== null && drag.current?.moved(e) && setPulled(under(e.clientX))}
        onPointerUp={(e) => {
          if (pulled !== null && pulled !== now && drag.current?.counts(e)) set(pulled);
          setPulled(null);
        }}
        onPointerCancel={() => setPulled(null)}
        onKeyDown={(e) => {
          const by = { ArrowLeft: -1, ArrowDown: -1, ArrowRight: 1, ArrowUp: 1 }[e.key];
          if (!by) return;
          e.preventDefault();
          set(up + by * thick * (e.shiftKey ? 10 : 1));
        }}
      >
        <div className="mx-auto h-full w-[3px] bg-primary" />
      </div>
      <span
        data-testid="boundary"
        className="absolute top-0 rounded bg-base-100/85 px-1 text-xs font-semibold whitespace-nowrap text-primary"
        style={at > 0.7 ? { right: `${(1 - at) * 100 + 1}%` } : { left: `${at * 100 + 1}%` }}
      >
        {thick.toFixed(2)} mm up to {up.toFixed(2)} mm{minutes}
      </span>
    </div>
  );
}
