import type { Bay } from "../shared/api/client";

/** Said where a printer's bottle holds less than a plate takes. */
export function Lasts({ bay, ml }: { bay: Bay | undefined; ml: number }) {
  const left = bay?.bottle?.left_ml ?? bay?.resin_ml ?? null;
  if (left === null || !Number.isFinite(ml) || ml <= left) return null;
  return (
    <p data-testid="lasts" className="py-1 text-[13px] text-warning">
      ▲ The resin will not last: the plate takes {ml.toFixed(0)} ml, {left.toFixed(0)} ml are in the bottle.
      {bay?.state === "printing" ? " What prints now takes of it too." : ""}
    </p>
  );
}
