import { useEffect } from "react";
import type { CaseOut } from "../../shared/api/client";
import { toStage } from "../../stage";
import { uiOf } from "../../steps";
import { useBench, useView } from "../../store/bench";

/** What somebody asked to be shown, from whichever card: its step is open already, the place follows once its step is here. */
export function useWanted(data: CaseOut): void {
  const view = useView();
  const { wanted, pointAt, want } = useBench();
  useEffect(() => {
    if (!wanted || data.open !== wanted.step || view.step !== wanted.step) return;
    const { place, text, flag } = wanted;
    want(null);
    if (!place) return;
    const point = toStage(uiOf(wanted.step), { data, view }, place.piece, place.point_mm);
    pointAt({ point, radius: place.radius_mm, text, flag });
  }, [wanted, data, view, want, pointAt]);
}
