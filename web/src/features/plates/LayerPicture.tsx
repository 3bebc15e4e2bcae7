import type { Plate } from "../../shared/api/client";
import { useFollowed } from "../../shared/useFollowed";
import { useCovered, useLayer } from "./layer";

/** For the screen so many pixels are enough. */
const SEEN_WIDE = 1200;

/** The picture the printer gets, and on demand what is new in it against the layer below. */
export function LayerPicture({ plate }: { plate: Plate }) {
  return useCovered(plate) ? <Picture plate={plate} /> : null;
}

function Picture({ plate }: { plate: Plate }) {
  const { layer, difference } = useLayer();
  const [drawn, came] = useFollowed(layer);
  const of = (n: number) => `/api/plates/${plate.id}/layers/${n}.png?of=${plate.layers}&wide=${SEEN_WIDE}`;
  return (
    <figure className="line absolute inset-3 grid place-items-center rounded-xl border bg-black p-2">
      <div className="relative h-full w-full">
        <img
          className="absolute inset-0 h-full w-full object-contain"
          src={of(drawn)}
          alt={`Layer ${drawn + 1}: white is cured`}
          data-testid="layer-picture"
          onLoad={came}
          onError={came}
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
