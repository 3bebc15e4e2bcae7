import { useMutation, useQuery, useQueryClient } from "@tanstack/react-query";
import { create } from "zustand";
import { say, sayError } from "../store/notices";
import { client, ok } from "./api/client";
import type { components } from "./api/schema.gen";

export type HousePart = components["schemas"]["HousePartOut"];
type Shelf = components["schemas"]["HousePartsOut"];

/** What stands on the shelf, for what is done on the stage: there no query can be asked. */
export const useKnownParts = create<{ parts: HousePart[] }>(() => ({ parts: [] }));

/** The house parts on the shelf. */
export function useHouseParts() {
  return useQuery({
    queryKey: ["house-parts"],
    queryFn: async () => known(await ok(client.GET("/api/house-parts"))),
    staleTime: 30_000,
  });
}

function known(shelf: Shelf): HousePart[] {
  useKnownParts.setState({ parts: shelf.parts });
  return shelf.parts;
}

/** Put bodies on the shelf, change what stands there, take one off. */
export function usePartWork() {
  const queries = useQueryClient();
  const work = useMutation({
    mutationFn: (call: () => Promise<Shelf>) => call(),
    onSuccess: (shelf) => {
      for (const r of shelf.refused ?? []) say(r.message, "look");
      queries.setQueryData(["house-parts"], known(shelf));
    },
    onError: sayError,
  });
  return {
    put: (files: File[]) =>
      work.mutate(() => {
        const form = new FormData();
        for (const file of files) form.append("files", file, file.name);
        return ok(client.POST("/api/house-parts", { body: form as never, bodySerializer: (body) => body as never }));
      }),
    change: ({ id, name, face, turn_deg }: HousePart) =>
      work.mutate(() =>
        ok(
          client.POST("/api/house-parts/{ident}", {
            params: { path: { ident: id } },
            body: { name, face, turn_deg },
          }),
        ),
      ),
    takeOff: (id: number) =>
      work.mutate(() => ok(client.DELETE("/api/house-parts/{ident}", { params: { path: { ident: id } } }))),
  };
}

/** A part of the shelf becomes a file of the case. */
export async function takeUp(part: HousePart, number: string): Promise<boolean> {
  try {
    const path = { ident: part.id, number };
    await ok(client.POST("/api/house-parts/{ident}/to/{number}", { params: { path } }));
    return true;
  } catch (error) {
    sayError(error);
    return false;
  }
}
