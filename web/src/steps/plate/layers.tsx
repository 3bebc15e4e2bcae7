import { Layers3 } from "lucide-react";
import { create } from "zustand";
import { goodOf, nodesOf } from "../../case/look";
import type { CaseOut } from "../../shared/api/client";
import { useFollowed } from "../../shared/useFollowed";
import { type Drawing, type Tool, useSteps } from "../../stage";

const KEYS: Record<string, ["layer", number]> = { arrowup: ["layer", 1], arrowdown: ["layer", -1] };

/** For the screen so many pixels are enough. */
const SEEN_WIDE = 1200;

const useLayer = create<{ layer: number }>(() => ({ layer: 0 }));

/** How many layers the plate has, how high one is, and by what a picture of one is known; null while they are not worked out. */
function layersOf(data: CaseOut): { count: number; layer_mm: number; known: string } | null {
  const printing = goodOf(data, "plate")?.printing;
  const nodes = nodesOf(data, "layers");
  if (!printing || nodes.length === 0 || nodes.some((n) => !n.good)) return null;
  const counts = nodes.map((n) => Number.parseInt(n.figure, 10)).filter((c) => Number.isFinite(c));
  return {
    count: Math.max(0, ...counts),
    layer_mm: printing.layer_mm,
    known: nodes.map((n) => goodOf(data, "layers", n.piece)?.sha256?.slice(0, 8)).join("-"),
  };
}

function Words({ data }: Drawing) {
  const known = layersOf(data);
  const layer = Math.min(
    useLayer((s) => s.layer),
    Math.max((known?.count ?? 1) - 1, 0),
  );
  const [drawn, came] = useFollowed(layer);
  if (!known || known.count === 0)
    return (
      <p className="line pointer-events-auto absolute top-16 left-3 rounded-lg border bg-base-100 px-3 py-2">
        The layers are not worked out yet.
      </p>
    );
  const z = (n: number) => (n * known.layer_mm).toFixed(2);
  const base = `/api/cases/${data.number}`;
  return (
    <section
      aria-label="Layers"
      className="line pointer-events-auto absolute inset-x-3 top-16 bottom-12 flex flex-col gap-2 rounded-xl border bg-base-100 p-3 shadow-sm"
    >
      <img
        className="min-h-0 flex-1 rounded-lg bg-black object-contain"
        src={`${base}/layers/${drawn}.png?of=${known.known}&wide=${SEEN_WIDE}`}
        onLoad={came}
        onError={came}
        alt={`Layer ${drawn + 1}: white is cured`}
      />
      <div className="flex items-center gap-3">
        <input
          type="range"
          className="range range-sm flex-1"
          aria-label="Layer"
          min={0}
          max={known.count - 1}
          value={layer}
          onChange={(e) => useLayer.setState({ layer: Number(e.target.value) })}
        />
        <span data-testid="layer" className="w-64 text-right whitespace-nowrap">
          Layer {layer + 1} of {known.count}, {z(layer)} to {z(layer + 1)} mm
        </span>
        <a className="btn btn-sm" href={`${base}/layers.zip`} download>
          layers.zip
        </a>
      </div>
    </section>
  );
}

/** One layer a press, with Shift ten. */
function Works({ data, inHand }: { data: CaseOut; inHand: boolean }) {
  useSteps(KEYS, inHand, (_, steps) => {
    const most = (layersOf(data)?.count ?? 1) - 1;
    useLayer.setState(({ layer }) => ({ layer: Math.min(Math.max(layer + steps, 0), Math.max(most, 0)) }));
  });
  return null;
}

export const layers: Tool = {
  id: "layers",
  title: "Layers",
  long: "Layers: see what the printer cures, one after the other",
  keys: "z",
  icon: Layers3,
  Words,
  Works,
};
