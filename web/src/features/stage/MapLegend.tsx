import { signed } from "../../shared/format";
import { useBench } from "../../store/bench";
import { MAP_REACH_MM } from "./plaster";

/** What the colours of a map stand for, and the value under the pointer. */
export function MapLegend() {
  const under = useBench((s) => s.under);
  const end = Math.round(MAP_REACH_MM * 1000);
  return (
    <figure
      aria-label="Distance from the jaw"
      className="line absolute bottom-4 left-4 w-56 rounded-lg border bg-base-100 px-3 py-2 text-xs"
    >
      <figcaption className="flex justify-between font-semibold">
        Off the jaw, µm
        <span data-testid="under">{under === null ? "" : `here ${signed(under * 1000)}`}</span>
      </figcaption>
      <div
        className="mt-1 h-3 rounded"
        style={{ background: "linear-gradient(90deg, rgb(23 74 140), rgb(237 232 219) 50%, rgb(153 51 13))" }}
      />
      <div className="dim flex justify-between">
        <span>−{end} under</span>
        <span>0</span>
        <span>over +{end}</span>
      </div>
      <p className="dim mt-1">Plain plaster: nothing there to lie on.</p>
    </figure>
  );
}
