import { useQuery } from "@tanstack/react-query";
import { create } from "zustand";
import { client, ok, type Plate } from "../../shared/api/client";

/** The layer the ruler stands at, and how it is shown. */
export const useLayer = create<{ layer: number; on: boolean; picture: boolean; difference: boolean; playing: boolean }>(
  () => ({ layer: 0, on: false, picture: false, difference: false, playing: false }),
);

/** Does a layer's picture lie over the stage? */
export function useCovered(plate: Plate): boolean {
  return useLayer((s) => s.picture) && plate.layers !== "";
}

const NONE: number[] = [];

/** Of every layer of a plate its area (mm²) and where it ends (mm over the plate). */
export function useTable(plate: Plate) {
  const table = useQuery({
    queryKey: ["layers", plate.id, plate.layers],
    queryFn: () => ok(client.GET("/api/plates/{ident}/layers.json", { params: { path: { ident: plate.id } } })),
    enabled: plate.layers !== "",
    staleTime: Number.POSITIVE_INFINITY,
    // Until what became of a change is there, what was is shown; never another plate's.
    placeholderData: (before, query) => (plate.layers !== "" && query?.queryKey[1] === plate.id ? before : undefined),
  });
  const data = table.data;
  return {
    area: data?.area_mm2 ?? NONE,
    ends: data?.ends_mm ?? NONE,
    saved: data ? data.fine_seconds - data.seconds : 0,
  };
}

/** The layer at a height over the plate. */
export function layerAt(ends: number[], z: number): number {
  const found = ends.findIndex((end) => end > z);
  return found < 0 ? Math.max(ends.length - 1, 0) : found;
}
