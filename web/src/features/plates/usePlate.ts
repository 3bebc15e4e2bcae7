import { useMutation, useQuery, useQueryClient } from "@tanstack/react-query";
import { useCallback, useEffect, useRef } from "react";
import { client, ok, okPlate, type Plate, type PlateLine, Said } from "../../shared/api/client";
import { type BenchEvent, useBenchEvents } from "../../shared/api/events";
import { say, sayError } from "../../store/notices";
import { movedBy } from "./places";

const SOON_MS = 80;
/** So long an answer of the server may take until it is asked again whether a change was from here. */
const ANSWER_MS = 700;

/** All plates, and what lies on the shelf; looked at anew when a case or a plate becomes another. */
export function useRoom() {
  const queries = useQueryClient();
  const plates = useQuery({ queryKey: ["plates"], queryFn: () => ok(client.GET("/api/plates")) });
  const shelf = useQuery({ queryKey: ["shelf"], queryFn: () => ok(client.GET("/api/plates/shelf")) });
  const settings = useQuery({
    queryKey: ["plate-settings"],
    queryFn: () => ok(client.GET("/api/plates/settings")),
    staleTime: 60_000,
  });
  const waiting = useRef<ReturnType<typeof setTimeout> | undefined>(undefined);
  useEffect(() => () => clearTimeout(waiting.current), []);
  const onEvent = useCallback(
    (event: BenchEvent) => {
      if (event.kind === "progress" || event.kind === "bay") return;
      clearTimeout(waiting.current);
      waiting.current = setTimeout(() => {
        queries.invalidateQueries({ queryKey: ["plates"] });
        queries.invalidateQueries({ queryKey: ["shelf"] });
      }, SOON_MS);
    },
    [queries],
  );
  useBenchEvents(onEvent);
  return { plates, shelf: shelf.data ?? [], settings: settings.data ?? [] };
}

/** A plate, kept fresh by the server's events. */
export function usePlate(id: number) {
  const queries = useQueryClient();
  const query = useQuery({
    queryKey: ["plate", id],
    queryFn: async () => {
      const asked = await okPlate(client.GET("/api/plates/{ident}", { params: { path: { ident: id } } }));
      // An answer that a change has overtaken on its way would show the plate as it was before.
      const known = queries.getQueryData<Plate>(["plate", id]);
      return known && known.revision > asked.revision ? known : asked;
    },
    enabled: id > 0,
    staleTime: 0,
    retry: (count, error) => !(error instanceof Said && error.status === 404) && count < 6,
  });
  const waiting = useRef<ReturnType<typeof setTimeout> | undefined>(undefined);
  const mine = useRef(new Set<number>());
  useEffect(() => () => clearTimeout(waiting.current), []);
  const onEvent = useCallback(
    (event: BenchEvent) => {
      // A case that goes on may have a newer body; else only this plate's own events count.
      const own = event.plate === String(id);
      if (event.kind === "bay" || (event.plate && !own)) return;
      if (event.kind === "progress") {
        if (own)
          queries.setQueryData<Plate>(["plate", id], (old) => (old ? { ...old, working: event.working ?? {} } : old));
        return;
      }
      clearTimeout(waiting.current);
      waiting.current = setTimeout(() => queries.invalidateQueries({ queryKey: ["plate", id] }), SOON_MS);
      if (own && event.kind === "revision" && event.revision) {
        const seen = event.revision;
        // What is on its way from here may be just that change: its answer tells.
        const tell = () => {
          if (queries.isMutating({ mutationKey: ["plate", id] })) setTimeout(tell, ANSWER_MS);
          else if (!mine.current.has(seen)) say("Someone changed this plate.", "look");
        };
        setTimeout(tell, ANSWER_MS);
      }
    },
    [queries, id],
  );
  useBenchEvents(onEvent);
  const keep = useCallback(
    (data: Plate) => {
      mine.current.add(data.revision);
      queries.setQueryData(["plate", data.id], data);
    },
    [queries],
  );
  return { ...query, keep };
}

/** All that can be done with a plate. Each call answers with the plate as it is then. */
export function usePlateDoings(plate: Plate | undefined, keep: (data: Plate) => void) {
  const queries = useQueryClient();
  const id = plate?.id ?? 0;
  const doing = useMutation({
    mutationKey: ["plate", id],
    mutationFn: (call: () => Promise<Plate>) => call(),
    onSuccess: (data) => {
      keep(data);
      queries.invalidateQueries({ queryKey: ["plates"] });
      queries.invalidateQueries({ queryKey: ["shelf"] });
    },
    onError: (error) => {
      sayError(error);
      queries.invalidateQueries({ queryKey: ["plate", id] });
    },
    scope: { id: `plate-${id}` },
  });
  const start = doing.mutate;
  const at = { params: { path: { ident: id } } };
  // Read when its turn comes: of two quick changes the second is made on what the first left.
  const base = () => queries.getQueryData<Plate>(["plate", id])?.revision ?? plate?.revision ?? 1;
  return {
    busy: doing.isPending,
    put: (number: string, addresses: string[]) =>
      start(() =>
        okPlate(
          client.POST("/api/plates/{ident}/bodies", {
            ...at,
            body: { base: base(), case: number, addresses, count: 1 },
          }),
        ),
      ),
    off: (bodies: string[]) =>
      start(() => okPlate(client.POST("/api/plates/{ident}/off", { ...at, body: { base: base(), bodies } }))),
    /** Onto as many more plates as it takes. */
    ontoNext: (bodies: string[]) =>
      start(async () => {
        const done = await ok(client.POST("/api/plates/{ident}/onto-next", { ...at, body: { base: base(), bodies } }));
        const names = done.others.map((other) => `plate ${other}`).join(", ");
        say(`What had no room lies on ${names}.`);
        return done.plate as unknown as Plate;
      }),
    copy: (body: string, count: number) =>
      start(() =>
        okPlate(
          client.POST("/api/plates/{ident}/bodies/{body}/copies", {
            params: { path: { ident: id, body } },
            body: { base: base(), count },
          }),
        ),
      ),
    renew: (body: string) =>
      start(() =>
        okPlate(
          client.POST("/api/plates/{ident}/bodies/{body}/renew", {
            params: { path: { ident: id, body } },
            body: { base: base() },
          }),
        ),
      ),
    fill: () => start(() => okPlate(client.POST("/api/plates/{ident}/fill", { ...at, body: { base: base() } }))),
    name: (name: string) =>
      start(() => okPlate(client.POST("/api/plates/{ident}/name", { ...at, body: { base: base(), name } }))),
    set: (step: string, values: Record<string, unknown>) =>
      start(() =>
        okPlate(client.POST("/api/plates/{ident}/settings", { ...at, body: { base: base(), step, values } })),
      ),
    /** A body by so much, told from the plate as it is when its turn comes: of quick steps none is lost. */
    move: (body: string, dx: number, dy: number, turn = 0) =>
      start(() => {
        const now = queries.getQueryData<Plate>(["plate", id]) ?? plate;
        const places = now ? movedBy(now, body, dx, dy, turn) : {};
        return okPlate(
          client.POST("/api/plates/{ident}/settings", {
            ...at,
            body: { base: base(), step: "pack", values: { places } },
          }),
        );
      }),
    takeRecords: () =>
      start(() => okPlate(client.POST("/api/plates/{ident}/records", { ...at, body: { base: base() } }))),
    undo: () => start(() => okPlate(client.POST("/api/plates/{ident}/undo", at))),
    redo: () => start(() => okPlate(client.POST("/api/plates/{ident}/redo", at))),
    /** It and what was worked out of it are gone; the bodies stay in their cases. */
    delete: (then: () => void) =>
      ok(client.DELETE("/api/plates/{ident}", at))
        .then(() => {
          queries.setQueryData<PlateLine[]>(["plates"], (old) => old?.filter((p) => p.id !== id));
          queries.invalidateQueries({ queryKey: ["plates"] });
          then();
        })
        .catch(sayError),
    file: () => start(() => okPlate(client.POST("/api/plates/{ident}/file", at))),
  };
}

export type PlateDoings = ReturnType<typeof usePlateDoings>;
