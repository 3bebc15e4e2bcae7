import { useMutation, useQuery, useQueryClient } from "@tanstack/react-query";
import { useState } from "react";
import { client, ok } from "../../shared/api/client";
import type { components } from "../../shared/api/schema.gen";
import { capital } from "../../shared/format";
import { say, sayError } from "../../store/notices";
import { PartShelf } from "./PartShelf";
import { SizeStrip } from "./SizeStrip";
import { TakeOff } from "./TakeOff";

export type ShelfRecord = components["schemas"]["RecordOut"];
type FieldOf = components["schemas"]["FieldOut"];

/** All shelves with their records. */
export function useShelves() {
  return useQuery({ queryKey: ["shelves"], queryFn: () => ok(client.GET("/api/house/shelves")) });
}

/** Change a record, put a new one on the shelf, take one off: what hangs on them is asked for anew. */
export function useShelfWork() {
  const queries = useQueryClient();
  const done = () => {
    queries.invalidateQueries({ queryKey: ["shelves"] });
    queries.invalidateQueries({ queryKey: ["steps"] });
  };
  const put = useMutation({
    mutationFn: ({ shelf, ...body }: { shelf: string } & Omit<ShelfRecord, "revision">) =>
      ok(client.POST("/api/house/shelves/{shelf}", { params: { path: { shelf } }, body })),
    onSuccess: (record) => {
      done();
      say(`${record.name} is kept. It counts for what takes it up from now on.`);
    },
    onError: sayError,
  });
  const takeOff = useMutation({
    mutationFn: ({ shelf, ident }: { shelf: string; ident: string }) =>
      ok(client.DELETE("/api/house/shelves/{shelf}/{ident}", { params: { path: { shelf, ident } } })),
    onSuccess: () => {
      done();
      say("Taken off. Cases that have it keep it.");
    },
    onError: sayError,
  });
  return { put: put.mutate, takeOff: takeOff.mutate };
}

const TITLES: Record<string, string> = {
  purpose: "Purposes",
  practice: "Practices",
  printer: "Printers",
  resin: "Resins",
  mark: "House marks",
};

/** What settings and cases choose from. */
export function Shelves({ lead, choose }: { lead: boolean; choose: (shelf: string, ident: string) => void }) {
  const shelves = useShelves();
  const forms = useQuery({
    queryKey: ["forms"],
    queryFn: () => ok(client.GET("/api/house/forms")),
    staleTime: Number.POSITIVE_INFINITY,
  });
  if (!shelves.data || !forms.data) return null;
  return (
    <section aria-label="Shelves" className="mb-4 grid gap-4 lg:grid-cols-2">
      {Object.entries(shelves.data).map(([shelf, records]) => (
        <Shelf
          key={shelf}
          shelf={shelf}
          records={records}
          fields={forms.data[shelf] ?? []}
          lead={lead}
          choose={shelf === "purpose" || shelf === "practice" ? (ident) => choose(shelf, ident) : undefined}
        />
      ))}
      <PartShelf lead={lead} />
    </section>
  );
}

interface ShelfProps {
  shelf: string;
  records: ShelfRecord[];
  fields: FieldOf[];
  lead: boolean;
  /** Given where records bring settings of their own. */
  choose?: (ident: string) => void;
}

function Shelf({ shelf, records, fields, lead, choose }: ShelfProps) {
  const work = useShelfWork();
  const [adding, setAdding] = useState(false);
  return (
    <section className="line rounded-box border bg-base-100 p-4" aria-label={TITLES[shelf]}>
      <div className="flex items-baseline justify-between">
        <h2 className="font-bold">{TITLES[shelf] ?? capital(shelf)}</h2>
        {lead && !adding && (
          <button type="button" className="font-semibold text-primary" onClick={() => setAdding(true)}>
            Add a {shelf}
          </button>
        )}
      </div>
      {shelf === "resin" && (
        <p className="dim py-1">
          <a className="font-semibold text-primary" href="/api/house/fit-strip.3mf" download>
            Fit strip
          </a>{" "}
          has five sockets and a peg; it is on the plate room's shelf too. The one it goes into without play tells the
          air round dies: keep it with the resin.
        </p>
      )}
      {shelf === "resin" && (
        <SizeStrip records={records} keep={lead ? (changed) => work.put({ shelf, ...changed }) : undefined} />
      )}
      {records.length === 0 && <p className="dim py-1">None yet: a {shelf} comes here when a case first names it.</p>}
      <ul>
        {records.map((record) => (
          <li key={`${record.id}/${record.revision}`} className="line border-b py-1">
            <Entry
              record={record}
              fields={fields}
              lead={lead}
              keep={(changed) => work.put({ shelf, ...changed })}
              remove={() => work.takeOff({ shelf, ident: record.id })}
              choose={choose && (() => choose(record.id))}
            />
          </li>
        ))}
        {adding && (
          <li className="py-1">
            <Entry
              record={{ id: "", name: "", revision: 0, steps: {}, data: {} }}
              fields={fields}
              lead
              keep={(made) => {
                work.put({ shelf, ...made });
                setAdding(false);
              }}
              remove={() => setAdding(false)}
            />
          </li>
        )}
      </ul>
    </section>
  );
}

interface EntryProps {
  record: ShelfRecord;
  fields: FieldOf[];
  lead: boolean;
  keep: (record: ShelfRecord) => void;
  remove: () => void;
  choose?: () => void;
}

/** One record: its name and what it holds, kept together. */
function Entry({ record, fields, lead, keep, remove, choose }: EntryProps) {
  const [name, setName] = useState(record.name);
  const [data, setData] = useState<Record<string, string>>(
    Object.fromEntries(fields.map((f) => [f.key, record.data[f.key]?.toString() ?? ""])),
  );
  const now: Record<string, number | string | null> = Object.fromEntries(
    fields.map((f) => [f.key, f.drawing ? (data[f.key] ?? "") : data[f.key] ? Number(data[f.key]) : null]),
  );
  const changed =
    name !== record.name || fields.some((f) => (record.data[f.key] ?? (f.drawing ? "" : null)) !== now[f.key]);
  const drawn = fields.every((f) => !f.drawing || now[f.key] !== "");
  const whole = name.trim() !== "" && drawn && fields.every((f) => f.optional || now[f.key] !== null);
  const count = Object.values(record.steps).reduce((sum, values) => sum + Object.keys(values).length, 0);
  return (
    <form
      className="flex flex-wrap items-center gap-2"
      onSubmit={(e) => {
        e.preventDefault();
        // What is left empty counts as it ships.
        const given = Object.fromEntries(Object.entries(now).filter(([, value]) => value !== null));
        if (changed && whole) keep({ ...record, name, data: given });
      }}
    >
      <input
        className="input input-sm w-36"
        aria-label={record.name ? `Name of ${record.name}` : "Name"}
        value={name}
        disabled={!lead}
        onChange={(e) => setName(e.target.value)}
      />
      {fields
        .filter((f) => f.drawing)
        .map((f) => (
          <Drawing
            key={f.key}
            name={record.name}
            outline={data[f.key] ?? ""}
            lead={lead && !(record.id && record.revision === 0)}
            onFile={(svg) => setData({ ...data, [f.key]: svg })}
          />
        ))}
      {fields
        .filter((f) => !f.drawing)
        .map((f) => (
          <label key={f.key} className="flex items-center gap-1 text-xs">
            {f.label}
            <input
              className="input input-sm w-16 px-2"
              type="number"
              step="any"
              value={data[f.key] ?? ""}
              placeholder={f.default?.toString() ?? ""}
              disabled={!lead}
              onChange={(e) => setData({ ...data, [f.key]: e.target.value })}
            />
            <span className="dim">{f.unit}</span>
          </label>
        ))}
      {choose && record.id && (
        <button type="button" className="font-semibold text-primary" onClick={choose}>
          {count === 0 ? "Settings" : count === 1 ? "1 setting" : `${count} settings`}
        </button>
      )}
      <span className="flex-1" />
      {lead && changed && (
        <button type="submit" className="btn btn-sm btn-primary" disabled={!whole}>
          Keep
        </button>
      )}
      {lead && <TakeOff name={record.name} onPress={remove} />}
    </form>
  );
}

const LARGEST_SVG = 300_000;

/** A mark as it is kept, or the file it shall be made of. */
function Drawing({ name, outline, lead, onFile }: DrawingProps) {
  const isFile = outline.includes("<");
  const numbers = isFile ? [] : (outline.match(/-?[\d.]+/g)?.map(Number) ?? []);
  const wide = Math.max(...numbers.filter((_, k) => k % 2 === 0), 1);
  return (
    <span className="flex items-center gap-2 text-xs">
      {numbers.length > 0 && (
        <svg viewBox={`0 -100 ${wide} 100`} className="h-8 max-w-24" role="img" aria-label={`The mark ${name}`}>
          <path d={outline} transform="scale(1 -1)" fillRule="evenodd" fill="currentColor" />
        </svg>
      )}
      {isFile && <span className="dim">a file is chosen: Keep makes the mark of it</span>}
      {!isFile && numbers.length === 0 && !lead && <span className="dim">nothing is drawn</span>}
      {lead && (
        <label className="cursor-pointer font-semibold text-primary focus-within:underline">
          {outline ? "Another SVG file" : "Choose an SVG file"}
          <input
            type="file"
            accept=".svg,image/svg+xml"
            className="sr-only"
            onChange={async (e) => {
              const file = e.target.files?.[0];
              e.target.value = "";
              if (!file) return;
              if (file.size > LARGEST_SVG) return say(`${file.name} is larger than 300 kB. Draw the mark more simply.`);
              const svg = await file.text();
              if (svg.includes("<")) onFile(svg);
              else say(`${file.name} is no SVG file.`);
            }}
          />
        </label>
      )}
    </span>
  );
}

interface DrawingProps {
  name: string;
  outline: string;
  lead: boolean;
  onFile: (svg: string) => void;
}
