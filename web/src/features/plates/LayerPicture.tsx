import { useEffect, useState } from "react";
import type { Plate } from "../../shared/api/client";
import { useLayer } from "./layer";

/** The picture the printer gets, and on demand what is new in it against the layer below. */
export function LayerPicture({ plate }: { plate: Plate }) {
  const { layer, picture, difference } = useLayer();
  // The picture follows the ruler at a small distance: not every layer on the way is asked for.
  const [drawn, setDrawn] = useState(layer);
  useEffect(() => {
    const rest = setTimeout(() => setDrawn(layer), 30);
    return () => clearTimeout(rest);
  }, [layer]);
  if (!picture || plate.layers === "") return null;
  const of = (n: number) => `/api/plates/${plate.id}/layers/${n}.png?of=${plate.layers}`;
  return (
    <figure className="line absolute inset-3 grid place-items-center rounded-xl border bg-black p-2">
      <div className="relative h-full w-full">
        <img
          className="absolute inset-0 h-full w-full object-contain"
          src={of(drawn)}
          alt={`Layer ${drawn + 1}: white is cured`}
          data-testid="layer-picture"
        />
        {difference && drawn > 0 && (
          <img
            className="absolute inset-0 h-full w-full object-contain mix-blend-difference"
            src={of(drawn - 1)}
            alt={`against layer ${drawn}`}
          />
        )}
      </div>
    </figure>
  );
}
