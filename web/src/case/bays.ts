import { useMutation, useQuery, useQueryClient } from "@tanstack/react-query";
import { useCallback } from "react";
import { type Bay, client, ok, type Print, Said } from "../shared/api/client";
import { type BenchEvent, useBenchEvents } from "../shared/api/events";
import { asked } from "../store/asking";
import { sayError } from "../store/notices";

/** The printers, and what was sent to them: of one case, or of all that are open. */
export function useBays(number = "", plate = 0): { bays: Bay[]; prints: Print[] } {
  const queries = useQueryClient();
  const bays = useQuery({ queryKey: ["bays"], queryFn: () => ok(client.GET("/api/bays")) });
  const prints = useQuery({
    queryKey: ["prints", number, plate],
    queryFn: () => ok(client.GET("/api/bays/prints", { params: { query: { case: number, plate } } })),
  });
  const onEvent = useCallback(
    (event: BenchEvent) => {
      if (event.kind !== "bay" && event.kind !== "again") return;
      for (const key of ["bays", "prints", "bottles"]) queries.invalidateQueries({ queryKey: [key] });
    },
    [queries],
  );
  useBenchEvents(onEvent);
  return { bays: bays.data ?? [], prints: prints.data ?? [] };
}

/** What a stand-in can be made to meet, and how that is mended. */
export type Fault = "none" | "fill" | "door" | "cold" | "layer" | "resin" | "connection" | "power";

export function usePrinting() {
  const queries = useQueryClient();
  const doing = useMutation({
    // Null: the person let it be.
    mutationFn: (call: () => Promise<Print | null>) => call(),
    onError: sayError,
    onSettled: () => queries.invalidateQueries({ queryKey: ["prints"] }),
  });
  const print = (id: number) => ({ params: { path: { ident: id } } });
  return {
    busy: doing.isPending,
    send: (number: string) =>
      doing.mutate(() => ok(client.POST("/api/bays/prints", { body: { case: number, plate: 0, sure: true } }))),
    sendPlate: (plate: number) =>
      doing.mutate(async () => {
        const send = (sure: boolean) => ok(client.POST("/api/bays/prints", { body: { case: "", plate, sure } }));
        try {
          return await send(false);
        } catch (error) {
          if (!(error instanceof Said && error.code === "asks-first")) throw error;
          if (await asked({ text: error.message, yes: "Print it" })) return await send(true);
          return null;
        }
      }),
    again: (id: number) => doing.mutate(() => ok(client.POST("/api/bays/prints/{ident}/again", print(id)))),
    practise: (bay: string, kind: Fault) =>
      ok(client.POST("/api/bays/{ident}/fault", { params: { path: { ident: bay } }, body: { kind } }))
        .catch(sayError)
        .finally(() => queries.invalidateQueries({ queryKey: ["bays"] })),
    pause: (id: number) => doing.mutate(() => ok(client.POST("/api/bays/prints/{ident}/pause", print(id)))),
    resume: (id: number) => doing.mutate(() => ok(client.POST("/api/bays/prints/{ident}/resume", print(id)))),
    cancel: (id: number) => doing.mutate(() => ok(client.POST("/api/bays/prints/{ident}/cancel", print(id)))),
  };
}

const WORDS: Record<Print["state"], string> = {
  waiting: "waits to be sent",
  sending: "on its way",
  arrived: "arrived, waits for its turn",
  printing: "printing",
  paused: "paused",
  stopped: "stopped",
  done: "printed",
  cancelled: "cancelled",
  failed: "not printed",
};

export function isOpen(print: Print): boolean {
  return !["done", "cancelled", "failed"].includes(print.state);
}

/** Has the printer begun with it, and not ended? */
export function isUnder(print: Print): boolean {
  return ["printing", "paused", "stopped"].includes(print.state);
}

/** How far a print is, in words. */
export function printWords(print: Print): string {
  if (!isUnder(print)) return WORDS[print.state];
  return `${WORDS[print.state]}, layer ${print.layer} of ${print.layers}`;
}

/** Of the printer's own time. */
export function timeLeft(seconds: number | null): string {
  if (seconds === null) return "";
  if (seconds < 90) return `${Math.round(seconds)} s left`;
  const minutes = Math.round(seconds / 60);
  return minutes < 90 ? `${minutes} min left` : `${(minutes / 60).toFixed(1)} h left`;
}

/** How a printer stands, in words. */
export const bayStands = (bay: Bay): string => bay.says || bay.state;

/** And what is left in its bottle. */
export function bayWords(bay: Bay): string {
  const left = bay.bottle?.left_ml ?? bay.resin_ml;
  const bottle = left === null ? "" : `, ${Math.round(left)} ml in ${bay.bottle?.number ?? "the bottle"}`;
  return `${bayStands(bay)}${bay.says ? "" : bottle}`;
}
