import { useEffect, useMemo, useRef } from "react";
import type { Plate } from "../../shared/api/client";
import { moving } from "../../stage";
import { Boundary, thickOf } from "./Boundary";
import { layerAt, useLayer, useTable } from "./layer";
import { onPlate } from "./places";
import { stateOf } from "./state";
import type { PlateDoings } from "./usePlate";

const WIDE = 1000;
const TALL = 56;
/** Playing: so many layers a second. */
const PLAYED = 20;

interface Props {
  plate: Plate;
  doings: PlateDoings;
}

/** The area of every layer from the first to the last, which is the slider too; findings are marks on it. */
export function LayerRuler({ plate, doings }: Props) {
  const { layer, on, picture, difference, playing } = useLayer();
  const { area, ends, saved } = useTable(plate);
  const count = area.length;
  const at = Math.min(layer, Math.max(count - 1, 0));
  const most = Math.max(...area, 1);
  const path = useMemo(() => {
    if (count === 0) return "";
    const x = (k: number) => (k / count) * WIDE;
    const y = (mm2: number) => TALL - (mm2 / most) * (TALL - 6);
    return `M0 ${TALL} ${area.map((mm2, k) => `L${x(k).toFixed(1)} ${y(mm2).toFixed(1)} L${x(k + 1).toFixed(1)} ${y(mm2).toFixed(1)}`).join(" ")} L${WIDE} ${TALL}Z`;
  }, [area, count, most]);
  const marks = useMemo(() => marked(plate, ends), [plate, ends]);
  usePlayed(playing && count > 0, count);
  const box = useRef<HTMLDivElement>(null);
  const to = (clientX: number) => {
    const rect = box.current?.getBoundingClientRect();
    if (!rect || count === 0) return;
    const share = Math.min(Math.max((clientX - rect.left) / rect.width, 0), 1);
    useLayer.setState({ layer: Math.min(Math.floor(share * count), count - 1), on: true });
  };
  const step = (by: number) =>
    useLayer.setState({ layer: Math.min(Math.max(at + by, 0), Math.max(count - 1, 0)), on: true });
  const z = (n: number) => (n > 0 ? (ends[n - 1] ?? 0) : 0).toFixed(2);
  const thick = thickOf(plate);
  return (
    <section
      aria-label="Layer ruler"
      className="line flex h-[100px] shrink-0 flex-col gap-1 border-t bg-base-100 px-3 py-1.5"
    >
      <div className="flex items-center gap-3 text-[13px]">
        <span data-testid="layer" className="w-80 font-semibold whitespace-nowrap">
          {count > 0
            ? `Layer ${at + 1} of ${count}, ${z(at)} to ${z(at + 1)} mm, ${(area[at] ?? 0).toFixed(0)} mm²`
            : noLayers(plate)}
        </span>
        <Switch name="Cut open" on={on} onSet={(v) => useLayer.setState({ on: v })} />
        <Switch name="Picture" on={picture} onSet={(v) => useLayer.setState({ picture: v })} />
        <Switch
          name="Difference to the layer below"
          on={difference}
          onSet={(v) => useLayer.setState({ difference: v, picture: v || picture })}
        />
        <button
          type="button"
          className="font-semibold text-primary"
          disabled={count === 0}
          onClick={() => useLayer.setState({ playing: !playing, on: true })}
        >
          {playing ? "Stop" : "Play"}
        </button>
        <span className="flex-1" />
        {count > 0 && (
          <a className="font-semibold text-primary" href={`/api/plates/${plate.id}/layers.zip`} download>
            layers.zip
          </a>
        )}
      </div>
      <div className="relative min-h-0 w-full flex-1">
        <div
          ref={box}
          className="relative h-full w-full cursor-ew-resize touch-none"
          role="slider"
          tabIndex={0}
          aria-label="Layer"
          aria-valuemin={1}
          aria-valuemax={Math.max(count, 1)}
          aria-valuenow={at + 1}
          onPointerDown={(e) => {
            e.currentTarget.setPointerCapture(e.pointerId);
            to(e.clientX);
          }}
          onPointerMove={(e) => e.buttons === 1 && to(e.clientX)}
          onKeyDown={(e) => {
            const by = { ArrowLeft: -1, ArrowDown: -1, ArrowRight: 1, ArrowUp: 1 }[e.key];
            if (!by) return;
            e.preventDefault();
            step(e.shiftKey ? by * 10 : by);
          }}
        >
          <svg viewBox={`0 0 ${WIDE} ${TALL}`} preserveAspectRatio="none" className="h-full w-full">
            <title>The area of every layer; pull to leaf through them</title>
            <path
              d={path}
              fill="var(--color-base-300)"
              stroke="var(--dim)"
              strokeWidth="1"
              vectorEffect="non-scaling-stroke"
            />
            {marks.map((m) => (
              <path key={m.id} d={`M${m.x} 10 l-4 -8 h8 z`} fill={m.look ? "var(--color-warning)" : "var(--dim)"}>
                <title>{m.text}</title>
              </path>
            ))}
          </svg>
          {count > 0 && (
            // By itself, so that the curve is not drawn anew for every layer.
            <span
              className="absolute inset-y-0 -ml-px w-0.5 bg-base-content will-change-transform"
              style={{ left: `${((at + 0.5) / count) * 100}%` }}
            />
          )}
        </div>
        {count > 0 && thick > 0 && <Boundary plate={plate} ends={ends} thick={thick} saved={saved} doings={doings} />}
      </div>
    </section>
  );
}

function noLayers(plate: Plate): string {
  if (plate.bodies.length === 0) return "No layers yet";
  return stateOf(plate) === "failed"
    ? "No layers while bodies lie where they cannot be printed"
    : "The layers are being worked out …";
}

function Switch({ name, on, onSet }: { name: string; on: boolean; onSet: (on: boolean) => void }) {
  return (
    <label className="flex items-center gap-1">
      <input
        type="checkbox"
        className="toggle toggle-primary toggle-xs"
        checked={on}
        onChange={(e) => onSet(e.target.checked)}
      />
      {name}
    </label>
  );
}

/** Where on the ruler findings lie. */
function marked(plate: Plate, ends: number[]) {
  if (ends.length === 0) return [];
  return plate.nodes
    .flatMap((n) => n.flags)
    .flatMap((flag) => {
      const point = flag.place && onPlate(plate, flag.place.piece, flag.place.point_mm);
      if (!point) return [];
      const x = (layerAt(ends, point[2]) / ends.length) * WIDE;
      return [{ id: `${flag.id} ${flag.place?.piece}`, x, look: flag.severity !== "note", text: flag.message }];
    });
}

function usePlayed(playing: boolean, count: number) {
  useEffect(() => {
    if (!playing) return;
    const each = setInterval(() => {
      moving();
      useLayer.setState(({ layer }) =>
        layer + 1 >= count ? { layer: count - 1, playing: false } : { layer: layer + 1 },
      );
    }, 1000 / PLAYED);
    return () => clearInterval(each);
  }, [playing, count]);
}
