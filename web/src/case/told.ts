import { keepPreviousData, useQuery } from "@tanstack/react-query";
import { useEffect } from "react";
import { create } from "zustand";
import { type CaseOut, client, ok } from "../shared/api/client";
import type { Point } from "../store/bench";
import { goodOf } from "./look";

/** A tooth as it is told, with the line of its margin. */
export interface Told {
  fdi: number;
  confidence: number;
  by_hand: boolean;
  centre_mm: Point;
  mesiodistal_mm: number;
  margin_mm: Point[];
  margin_confidence: number[];
}

export type Found = NonNullable<NonNullable<ReturnType<typeof foundOf>>>[number];

/** The teeth of a jaw without their margins: known with the case. */
export function foundOf(data: CaseOut, piece: string) {
  return goodOf(data, "teeth", piece)?.teeth ?? null;
}

/** What was told last, for what is drawn on the stage: there no query can be asked. */
export const useMargins = create<{ known: string; told: Record<string, Told[]> }>(() => ({ known: "", told: {} }));

/** Every tooth with its margin, by piece, kept in `useMargins`. */
export function useTold(data: CaseOut): void {
  const known = data.pieces.map((p) => goodOf(data, "teeth", p.id)?.mesh ?? "").join();
  const query = useQuery({
    queryKey: ["told", data.number, known],
    queryFn: () => ok(client.GET("/api/cases/{number}/teeth.json", { params: { path: { number: data.number } } })),
    enabled: /[0-9a-f]/.test(known),
    staleTime: Number.POSITIVE_INFINITY,
    placeholderData: keepPreviousData,
  });
  const jaws = query.data?.jaws;
  useEffect(() => {
    const told = Object.fromEntries((jaws ?? []).map((jaw) => [jaw.piece, jaw.teeth as Told[]]));
    useMargins.setState({ known, told });
  }, [jaws, known]);
}

/** Which tooth a place on a jaw is on: the one whose middle is nearest, measured by how wide it is. */
export function toothAt(found: Found[] | null, at: Point): Found | null {
  let best: Found | null = null;
  let least = 1.1;
  for (const tooth of found ?? []) {
    const [x, y, z] = tooth.centre_mm;
    const far = Math.hypot(at[0] - x, at[1] - y, at[2] - z) / Math.max(tooth.mesiodistal_mm, 5);
    if (far < least) [best, least] = [tooth, far];
  }
  return best;
}
