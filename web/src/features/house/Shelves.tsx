import { useMutation, useQuery, useQueryClient } from "@tanstack/react-query";
import { useState } from "react";
import { client, ok } from "../../shared/api/client";
import type { components } from "../../shared/api/schema.gen";
import { capital } from "../../shared/format";
import { say, sayError } from "../../store/notices";

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
  const now = Object.fromEntries(fields.map((f) => [f.key, data[f.key] ? Number(data[f.key]) : null]));
  const changed = name !== record.name || fields.some((f) => (record.data[f.key] ?? null) !== now[f.key]);
  const whole = name.trim() !== "" && fields.every((f) => f.optional || now[f.key] !== null);
  const count = Object.values(record.steps).reduce((sum, values) => sum + Object.keys(values).length, 0);
  return (
    <form
      className="flex flex-wrap items-center gap-2"
      onSubmit={(e) => {
        e.preventDefault();
        if (changed && whole) keep({ ...record, name, data: now });
      }}
    >
      <input
        className="input input-sm w-36"
        aria-label={record.name ? `Name of ${record.name}` : "Name"}
        value={name}
        disabled={!lead}
        onChange={(e) => setName(e.target.value)}
      />
      {fields.map((f) => (
        <label key={f.key} className="flex items-center gap-1 text-xs">
          {f.label}
          <input
            className="input input-sm w-16 px-2"
            type="number"
            step="any"
            value={data[f.key] ?? ""}
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
      {lead && (
        <button
          type="button"
          className="dim px-1"
          aria-label={record.name ? `Take ${record.name} off the shelf` : "Do not add it"}
          title={record.name ? "Take it off the shelf; cases that have it keep it" : "Do not add it"}
          onClick={remove}
        >
          ×
        </button>
      )}
    </form>
  );
}
