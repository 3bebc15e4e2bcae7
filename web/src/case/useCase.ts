import { keepPreviousData, type Query, useMutation, useQuery, useQueryClient } from "@tanstack/react-query";
import { useCallback, useEffect, useRef } from "react";
import { type CaseOut, client, type FixMore, ok, okCase, Said, type Working } from "../shared/api/client";
import { type BenchEvent, useBenchEvents } from "../shared/api/events";
import { asked } from "../store/asking";
import { useBench } from "../store/bench";
import { say, sayError } from "../store/notices";

export const CLEAR = { absent: true };

const gone = (error: unknown) => error instanceof Said && error.status === 404;

/** A case, kept fresh by the server's events. */
export function useCase(number: string, step: string) {
  const queries = useQueryClient();
  const query = useQuery({
    queryKey: ["case", number, step],
    queryFn: async () => {
      const asked = await okCase(client.GET("/api/cases/{number}", { params: { path: { number }, query: { step } } }));
      // An answer that a change has overtaken on its way would show the case as it was before.
      const known = queries.getQueryData<CaseOut>(["case", number, step]);
      return known && known.revision > asked.revision ? known : asked;
    },
    // Until the open step has told all, the case stands as it was last seen; of no step is kept what may be old.
    placeholderData: keepPreviousData,
    staleTime: 0,
    gcTime: 0,
    retry: (count, error) => !gone(error) && count < 6,
  });
  const revision = useRef(0);
  const mine = useRef(new Set<number>());
  if (query.data) revision.current = Math.max(revision.current, query.data.revision);

  const waiting = useRef<ReturnType<typeof setTimeout> | undefined>(undefined);
  useEffect(() => () => clearTimeout(waiting.current), []);
  const onEvent = useCallback(
    (event: BenchEvent) => {
      // Several results in a row are one look.
      const soon = (known = true) => {
        clearTimeout(waiting.current);
        const predicate = (query: Query) => known || !gone(query.state.error);
        waiting.current = setTimeout(() => queries.invalidateQueries({ queryKey: ["case", number], predicate }), 60);
      };
      if (event.kind === "again") {
        // Asked again, what is not there would flicker; told of, it is there.
        soon(false);
        return;
      }
      if (event.kind === "bay" || event.case !== number) return;
      if (event.kind === "progress")
        queries.setQueriesData<CaseOut>({ queryKey: ["case", number] }, (old) =>
          old ? progressed(old, event.working ?? {}) : old,
        );
      else soon();
      if (event.kind === "revision" && event.revision && revision.current > 0 && event.revision > revision.current) {
        const seen = event.revision;
        // My own change is answered a moment before or after this; only someone else's is told.
        setTimeout(() => {
          if (!mine.current.has(seen)) tellOther(number, seen);
        }, 700);
      }
    },
    [queries, number],
  );
  useBenchEvents(onEvent);
  const keep = useCallback(
    (data: CaseOut) => {
      mine.current.add(data.revision);
      // An answer that a later look has overtaken would show the case as it was before.
      const known = queries.getQueryData<CaseOut>(["case", number, data.open]);
      if (known && known.revision > data.revision) return;
      queries.setQueryData(["case", number, data.open], data);
    },
    [queries, number],
  );
  return { ...query, keep };
}

function progressed(old: CaseOut, working: Record<string, Working>): CaseOut {
  return {
    ...old,
    working,
    nodes: old.nodes.map((n) =>
      n.id in working && (n.state === "todo" || n.state === "stale") ? { ...n, state: "working" } : n,
    ),
  };
}

async function tellOther(number: string, revision: number) {
  try {
    const history = await ok(client.GET("/api/cases/{number}/history", { params: { path: { number } } }));
    const me = await ok(client.GET("/api/me"));
    const line = history.find((h) => h.number === revision);
    if (line && line.who !== me.person?.name) say(`${line.who} changed this case: ${line.what}.`, "look");
  } catch {
    // The page shows the new state in any case.
  }
}

type Entry = { at: string[]; id: string; value: Record<string, unknown> | null };

/** All that can be done with a case. Each call answers with the case as it is then. */
export function useDoings(number: string, data: CaseOut | undefined, keep: (data: CaseOut) => void) {
  const queries = useQueryClient();
  // Every answer tells all of the step that is open when it is asked for.
  const path = () => ({ params: { path: { number }, query: { step: useBench.getState().step } } });
  const latest = useRef(0);
  latest.current = data?.revision ?? 0;
  const doing = useMutation({
    mutationFn: (call: () => Promise<CaseOut | null>) => call(),
    // Null: the person let it be.
    onSuccess: (data) => data && keep(data),
    onError: (error) => {
      sayError(error);
      queries.invalidateQueries({ queryKey: ["case", number] });
    },
    scope: { id: `case-${number}` },
  });
  const start = doing.mutate;
  const sendEntry = (base: number, step: string, piece: string, entry: Entry) =>
    okCase(
      client.POST("/api/cases/{number}/settings", {
        ...path(),
        body: { base, step, piece, values: {}, entries: [entry], sure: false, more: [] },
      }),
    );
  return {
    busy: doing.isPending,
    set: (step: string, piece: string, values: Record<string, unknown>, more: FixMore[] = []) =>
      start(async () => {
        const send = (sure: boolean) =>
          okCase(
            client.POST("/api/cases/{number}/settings", {
              ...path(),
              body: { base: latest.current, step, piece, values, entries: [], sure, more },
            }),
          );
        try {
          return await send(false);
        } catch (error) {
          // What it would make of other scans is said first.
          if (!(error instanceof Said && error.code === "changes-others")) throw error;
          if (await asked({ text: error.message, yes: "Change them" })) return await send(true);
          return null;
        }
      }),
    /** One stroke, one mark: a new one (id empty), another in its place, or (value null) none any more. */
    entry: (step: string, piece: string, at: string[], id: string, value: Record<string, unknown> | null) =>
      start(() => sendEntry(latest.current, step, piece, { at, id, value })),
    /** The same of what is already there, told from the case as it is when its turn comes: of two quick changes none is lost. */
    entryNow: (
      step: string,
      piece: string,
      at: string[],
      from: (now: CaseOut) => { id: string; value: Record<string, unknown> | null } | null,
    ) => {
      // What is told of the settings is told for the step that is open now, whichever is when the turn comes.
      const known = ["case", number, useBench.getState().step];
      start(async () => {
        const now = queries.getQueryData<CaseOut>(known) ?? data;
        const entry = now && from(now);
        return now && entry ? sendEntry(now.revision, step, piece, { at, ...entry }) : null;
      });
    },
    details: (values: Record<string, string>) =>
      start(async () => {
        const send = () =>
          okCase(client.POST("/api/cases/{number}/details", { ...path(), body: { base: latest.current, values } }));
        try {
          return await send();
        } catch (error) {
          // A lead is offered to put what is not there on the shelf.
          const name = values.purpose?.trim();
          if (!(error instanceof Said && error.code === "no-purpose" && name)) throw error;
          if (!(await asked({ text: error.message, yes: `Make “${name}” a purpose` }))) return null;
          const body = { id: "", name, steps: {}, data: {} };
          await ok(client.POST("/api/house/shelves/{shelf}", { params: { path: { shelf: "purpose" } }, body }));
          queries.invalidateQueries({ queryKey: ["shelves"] });
          return await send();
        }
      }),
    /** seen : of one step, the ids of the doubts on its card. */
    accept: (steps: string[], accepted = true, then?: () => void, seen: string[] = []) =>
      doing.mutate(
        () =>
          okCase(
            client.POST("/api/cases/{number}/accept", {
              ...path(),
              body: { base: latest.current, steps, accepted, seen },
            }),
          ),
        { onSuccess: then },
      ),
    /** Each doubt its own yes, or open again. */
    answer: (doubts: string[], yes: boolean) =>
      start(() =>
        okCase(client.POST("/api/cases/{number}/doubts", { ...path(), body: { base: latest.current, doubts, yes } })),
      ),
    takeRecords: () =>
      start(() => okCase(client.POST("/api/cases/{number}/records", { ...path(), body: { base: latest.current } }))),
    undo: () => start(() => okCase(client.POST("/api/cases/{number}/undo", path()))),
    redo: () => start(() => okCase(client.POST("/api/cases/{number}/redo", path()))),
    hold: (held: boolean) =>
      start(() => okCase(client.POST("/api/cases/{number}/hold", { ...path(), body: { held } }))),
    piece: (piece: string, what: "aside" | "beside" | "instead" | "split" | "copy" | "apart", of = "") =>
      start(() =>
        okCase(
          client.POST("/api/cases/{number}/pieces/{piece}", {
            params: { path: { number, piece }, query: path().params.query },
            body: { base: latest.current, what, of },
          }),
        ),
      ),
    close: () =>
      start(async () => {
        const send = (sure: boolean) =>
          okCase(
            client.POST("/api/cases/{number}/close", {
              params: { path: { number }, query: { ...path().params.query, sure } },
            }),
          );
        try {
          return await send(false);
        } catch (error) {
          if (!(error instanceof Said && error.code === "asks-first")) throw error;
          return (await asked({ text: error.message, yes: "Close it" })) ? await send(true) : null;
        }
      }),
    reopen: () => start(() => okCase(client.POST("/api/cases/{number}/reopen", path()))),
    handOff: () => start(() => okCase(client.POST("/api/cases/{number}/hand-off", path()))),
  };
}

export type Doings = ReturnType<typeof useDoings>;

/** Tell the server that this case is open here, and who else has it open. */
export function useOthers(number: string): string[] {
  const others = useQuery({
    queryKey: ["here", number],
    queryFn: () => ok(client.POST("/api/cases/{number}/here", { params: { path: { number } } })),
    refetchInterval: 8000,
    retry: false,
  });
  const names = others.data?.others ?? [];
  const before = useRef<string[]>([]);
  useEffect(() => {
    for (const name of names) if (!before.current.includes(name)) say(`${name} has this case open too.`, "calm");
    before.current = names;
  }, [names]);
  return names;
}
