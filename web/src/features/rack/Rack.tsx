import { useQuery, useQueryClient } from "@tanstack/react-query";
import { useCallback, useRef, useState } from "react";
import { useNavigate } from "react-router";
import { useBays } from "../../case/bays";
import { client, ok, type Tray } from "../../shared/api/client";
import { type BenchEvent, useBenchEvents } from "../../shared/api/events";
import { Command } from "../../shared/ui/Command";
import { DropHere } from "../../shared/ui/DropHere";
import { TopBar } from "../../shared/ui/TopBar";
import { Printers } from "./Printers";
import { TrayCard } from "./TrayCard";

const HEAPS: { name: string; has: (t: Tray) => boolean }[] = [
  { name: "All", has: () => true },
  { name: "Needs a look", has: (t) => t.tone === "look" },
  { name: "Working", has: (t) => t.tone === "work" },
  { name: "Ready", has: (t) => t.tone === "next" },
  { name: "Files made", has: (t) => t.tone === "calm" },
];
const CLOSED = "Closed";
const ORDERS: Record<string, (a: Tray, b: Tray) => number> = {
  "by due date": (a, b) => (a.due || "9999").localeCompare(b.due || "9999") || b.number.localeCompare(a.number),
  "newest first": (a, b) => b.created.localeCompare(a.created),
  "by practice": (a, b) => a.practice.localeCompare(b.practice) || a.number.localeCompare(b.number),
};

/** The day's cases as trays, and one place to drop scans for a new one. */
export function Rack() {
  const navigate = useNavigate();
  const queries = useQueryClient();
  const [heap, setHeap] = useState("All");
  const [order, setOrder] = useState("by due date");
  const [find, setFind] = useState("");
  const field = useRef<HTMLInputElement>(null);
  const rack = useQuery({ queryKey: ["rack"], queryFn: () => ok(client.GET("/api/cases")) });
  const closed = useQuery({
    queryKey: ["rack", "closed", find],
    queryFn: () => ok(client.GET("/api/cases", { params: { query: { closed: true, find } } })),
    enabled: heap === CLOSED,
    placeholderData: (before) => before,
  });
  const onEvent = useCallback(
    (event: BenchEvent) => {
      if (event.kind === "bay") return;
      if (event.kind !== "progress") queries.invalidateQueries({ queryKey: ["rack"] });
      else
        queries.setQueryData<Tray[]>(["rack"], (old) =>
          old?.map((t) => (t.number === event.case ? { ...t, ...progressed(event) } : t)),
        );
    },
    [queries],
  );
  useBenchEvents(onEvent);
  const { bays, prints } = useBays();
  const words = find.toLowerCase().split(/\s+/).filter(Boolean);
  // The server looks through what no tray shows too: technician, notes, names of files.
  const looked = useQuery({
    queryKey: ["rack", "found", find],
    queryFn: () => ok(client.GET("/api/cases", { params: { query: { closed: false, find } } })),
    enabled: heap !== CLOSED && words.length > 0,
    placeholderData: (before) => before,
  });
  const found = new Set(words.length > 0 ? looked.data?.map((t) => t.number) : []);
  const all = rack.data ?? [];
  const chosen = HEAPS.find((h) => h.name === heap) ?? HEAPS[0];
  // Closed cases may be thousands: the server looks through them, in every field.
  const trays =
    heap === CLOSED
      ? [...(closed.data ?? [])]
      : all.filter((t) => chosen?.has(t) && (found.has(t.number) || words.every((w) => textOf(t).includes(w))));
  trays.sort(ORDERS[order] ?? (() => 0));
  return (
    <DropHere
      url="/api/cases/drop"
      says="Drop the scans: a case opens by itself"
      onDone={(dropped) => dropped.number && navigate(`/case/${dropped.number}`)}
    >
      {(choose, share) => (
        <div className="flex h-full flex-col bg-base-200">
          <TopBar />
          <Command id="find" title="Find a case" keys="f" group="Rack" run={() => field.current?.focus()} />
          <Command id="choose" title="Choose scans for a new case" keys="n" group="Rack" run={choose} />
          <div className="flex min-h-0 flex-1">
            <main className="min-w-0 flex-1 overflow-y-auto px-6 py-4">
              <div className="mb-4 flex items-center gap-2">
                <h1 className="mr-2 text-2xl font-bold">Rack</h1>
                {HEAPS.map((h) => (
                  <button
                    key={h.name}
                    type="button"
                    aria-pressed={h.name === heap}
                    onClick={() => setHeap(h.name)}
                    className={`line h-8 rounded-full border px-3 font-semibold ${h.name === heap ? "bg-neutral text-neutral-content" : "bg-base-100"}`}
                  >
                    {h.name} {all.filter(h.has).length}
                  </button>
                ))}
                <button
                  type="button"
                  aria-pressed={heap === CLOSED}
                  onClick={() => setHeap(CLOSED)}
                  className={`line h-8 rounded-full border px-3 font-semibold ${heap === CLOSED ? "bg-neutral text-neutral-content" : "bg-base-100"}`}
                >
                  {CLOSED}
                </button>
                <label className="ml-auto">
                  <span className="sr-only">Order</span>
                  <select className="select select-sm" value={order} onChange={(e) => setOrder(e.target.value)}>
                    {Object.keys(ORDERS).map((name) => (
                      <option key={name}>{name}</option>
                    ))}
                  </select>
                </label>
              </div>
              {rack.isError && (
                <p role="alert" className="text-warning">
                  ▲ {rack.error.message}
                </p>
              )}
              {rack.isSuccess && all.length === 0 && heap !== CLOSED && <Empty choose={choose} />}
              {(all.length > 0 || heap === CLOSED) && trays.length === 0 && (
                <p className="dim py-8">
                  {heap === CLOSED && !find ? "No case is closed." : "No tray here fits that."}
                </p>
              )}
              <ul className="grid grid-cols-[repeat(auto-fill,minmax(285px,1fr))] gap-4 pb-6">
                {trays.map((tray) => (
                  <TrayCard key={tray.number} tray={tray} print={prints.find((p) => p.case === tray.number)} />
                ))}
              </ul>
            </main>
            <Side choose={choose} share={share} find={find} setFind={setFind} field={field} trays={all}>
              <Printers bays={bays} prints={prints} />
            </Side>
          </div>
        </div>
      )}
    </DropHere>
  );
}

function textOf(t: Tray): string {
  return [t.number, t.patient, t.practice, t.purpose, t.due, t.waits].join(" ").toLowerCase();
}

function progressed(event: BenchEvent): Partial<Tray> {
  const list = Object.values(event.working ?? {});
  if (list.length === 0) return {};
  const what = [...new Set(list.map((w) => w.what))].join(", ").toLowerCase();
  return { tone: "work", waits: `Working: ${what}`, working: Math.min(...list.map((w) => w.fraction)) };
}

function Empty({ choose }: { choose: () => void }) {
  return (
    <div className="line mx-auto mt-16 max-w-md rounded-box border border-dashed p-8 text-center">
      <h2 className="mb-1 text-lg font-bold">The rack is empty</h2>
      <p className="dim mb-4">Drop an upper and a lower scan anywhere here. A case opens by itself.</p>
      <button type="button" className="btn btn-primary" onClick={choose}>
        Choose scans
      </button>
    </div>
  );
}

interface SideProps {
  choose: () => void;
  share: number | null;
  find: string;
  setFind: (text: string) => void;
  field: React.RefObject<HTMLInputElement | null>;
  trays: Tray[];
  children: React.ReactNode;
}

function Side({ choose, share, find, setFind, field, trays, children }: SideProps) {
  const working = trays.filter((t) => t.tone === "work");
  return (
    <aside className="line w-64 shrink-0 overflow-y-auto border-l bg-base-100 p-4">
      <button
        type="button"
        onClick={choose}
        title="Choose scans for a new case (N)"
        className="mb-4 w-full rounded-box border-2 border-dashed border-primary/50 px-4 py-6 text-center hover:bg-secondary"
      >
        <span className="block text-base font-bold">Drop scans here</span>
        <span className="dim block text-sm">
          STL, PLY, OBJ, 3MF, GLB or a ZIP of them, anywhere on the rack. A case opens by itself.
        </span>
        {share !== null && (
          <progress className="progress progress-primary mt-3" value={share} max={1} aria-label="Files on their way" />
        )}
      </button>
      <label className="mb-5 block">
        <span className="sr-only">Find a case</span>
        <input
          ref={field}
          className="input w-full"
          placeholder="Find a case (F)"
          value={find}
          onChange={(e) => setFind(e.target.value)}
        />
      </label>
      <h2 className="dim line mb-1 border-b pb-1 text-xs font-semibold tracking-wide uppercase">Working now</h2>
      {working.length === 0 && <p className="dim py-1">Nothing at the moment.</p>}
      {working.map((t) => (
        <p key={t.number} className="line flex justify-between border-b py-1.5">
          <span className="truncate">
            {t.number} {t.waits.replace("Working: ", "")}
          </span>
          <b>{t.working === null ? "" : `${Math.round(t.working * 100)} %`}</b>
        </p>
      ))}
      {children}
    </aside>
  );
}
