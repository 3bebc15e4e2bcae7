import { create } from "zustand";
import { signed } from "../shared/format";
import { useBench } from "../store/bench";
import type { Channel } from "./loader";

/** The map that is on the stage. */
export const useLegend = create<{ channel: Channel | null }>(() => ({ channel: null }));

/** Small lengths are read in µm. */
function readAs(channel: Channel): { unit: string; times: number; digits: number } {
  if (channel.unit === "mm" && channel.ends < 1) return { unit: "µm", times: 1000, digits: 0 };
  return { unit: channel.unit, times: 1, digits: channel.ends < 10 ? 2 : 0 };
}

/** What the colours of the map stand for, and the value under the pointer. */
export function MapLegend() {
  const under = useBench((s) => s.under);
  const { channel } = useLegend();
  if (!channel) return null;
  const { unit, times, digits } = readAs(channel);
  const end = (channel.ends * times).toFixed(digits);
  return (
    <figure
      aria-label={channel.name}
      className="line absolute bottom-4 left-4 w-56 rounded-lg border bg-base-100 px-3 py-2 text-xs"
    >
      <figcaption className="flex justify-between font-semibold">
        {channel.name}, {unit}
        <span data-testid="under">{under === null ? "" : `here ${signed(under * times, digits)}`}</span>
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
      {channel.name === "Off the jaw" && <p className="dim mt-1">Plain plaster: nothing there to lie on.</p>}
    </figure>
  );
}
