import { useMutation, useQuery, useQueryClient } from "@tanstack/react-query";
import { type Bottle, client, ok } from "../shared/api/client";
import { sayError } from "../store/notices";

/** The bottles of the house that are not empty, and what is done with them. */
export function useBottles(wanted: boolean) {
  const queries = useQueryClient();
  const stock = useQuery({
    queryKey: ["bottles"],
    queryFn: () => ok(client.GET("/api/bays/bottles")),
    enabled: wanted,
  });
  const doing = useMutation({
    mutationFn: (call: () => Promise<unknown>) => call(),
    onError: sayError,
    onSettled: () => {
      queries.invalidateQueries({ queryKey: ["bottles"] });
      queries.invalidateQueries({ queryKey: ["bays"] });
      queries.invalidateQueries({ queryKey: ["prints"] });
    },
  });
  const of = (bottle: Bottle) => ({ path: { ident: bottle.id } });
  const into = (bottle: Bottle, bay: string) =>
    ok(client.POST("/api/bays/bottles/{ident}/into", { params: of(bottle), body: { bay } }));
  return {
    stock: stock.data ?? [],
    busy: doing.isPending,
    putInto: (bottle: Bottle, bay: string) => doing.mutate(() => into(bottle, bay)),
    addInto: (resin: string, lot: string, ml: number, bay: string) =>
      doing.mutateAsync(async () =>
        into(await ok(client.POST("/api/bays/bottles", { body: { resin, lot, ml } })), bay),
      ),
    left: (bottle: Bottle, ml: number) =>
      doing.mutate(() => ok(client.POST("/api/bays/bottles/{ident}/left", { params: of(bottle), body: { ml } }))),
    end: (bottle: Bottle) => doing.mutate(() => ok(client.DELETE("/api/bays/bottles/{ident}", { params: of(bottle) }))),
  };
}

/** Which one it is, in words. */
export function bottleWords(bottle: Bottle): string {
  return [bottle.number, bottle.called, bottle.lot && `lot ${bottle.lot}`, `${bottle.left_ml.toFixed(0)} ml`]
    .filter(Boolean)
    .join(", ");
}
