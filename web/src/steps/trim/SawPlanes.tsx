import { useMemo } from "react";
import { type Matrix4, Vector3 } from "three";
import { PulledPlane } from "../../stage";
import type { SawName, Saws } from "./saws";

interface Props {
  saws: Saws;
  matrix: Matrix4;
  onPull: (which: SawName, mm: number, last: boolean) => void;
  onHold: (held: boolean) => void;
}

const SIZE: Record<SawName, [number, number]> = { bottom: [86, 74], back: [86, 36] };

/** Both saws as frames that are pulled along their axis. */
export function SawPlanes({ saws, matrix, onPull, onHold }: Props) {
  return (
    <>
      {(["bottom", "back"] as const)
        .filter((name) => saws[name].on)
        .map((name) => (
          <SawPlane key={name} name={name} saws={saws} matrix={matrix} onPull={onPull} onHold={onHold} />
        ))}
    </>
  );
}

function SawPlane({ name, saws, matrix, onPull, onHold }: Props & { name: SawName }) {
  const saw = saws[name];
  const place = useMemo(() => {
    const keep = new Vector3(...saw.keep).transformDirection(matrix);
    const point = new Vector3(...saw.point).applyMatrix4(matrix);
    const other = saws[name === "bottom" ? "back" : "bottom"];
    // The frame stands over the arch: the bottom one reaches from the incisors back, the upright one up from the gum.
    const shift =
      name === "bottom"
        ? new Vector3(...other.keep).transformDirection(matrix).multiplyScalar(-28)
        : new Vector3(...other.keep).transformDirection(matrix).multiplyScalar(-9);
    return { along: keep.negate(), middle: point.add(shift) };
  }, [saw, saws, name, matrix]);
  return (
    <PulledPlane
      name={`saw-${name}`}
      middle={place.middle}
      along={place.along}
      size={SIZE[name]}
      colour="#8a3b12"
      mm={saw.mm}
      onPull={(mm, last) => onPull(name, mm, last)}
      onHold={onHold}
    />
  );
}
