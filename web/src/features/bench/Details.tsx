import { useQuery } from "@tanstack/react-query";
import { useEffect, useId, useRef, useState } from "react";
import type { Doings } from "../../case/useCase";
import { type CaseOut, client, ok } from "../../shared/api/client";
import { moment } from "../../shared/format";
import { Keeping } from "./Keeping";
import { TeethChart } from "./TeethChart";

type FieldOf = { key: string; label: string; type: "text" | "date" | "area"; shelf?: string };
const FIELDS: FieldOf[] = [
  { key: "patient", label: "Patient", type: "text" },
  { key: "practice", label: "Practice", type: "text", shelf: "practice" },
  { key: "technician", label: "Technician", type: "text" },
  { key: "purpose", label: "Purpose", type: "text", shelf: "purpose" },
  { key: "due", label: "Due", type: "date" },
];
const NOTES: FieldOf = { key: "notes", label: "Notes", type: "area" };

/** Who it is for and what for. All of it may be typed at any time, none of it must. */
export function Details({ data, doings }: { data: CaseOut; doings: Doings }) {
  const shelves = useQuery({ queryKey: ["shelves"], queryFn: () => ok(client.GET("/api/house/shelves")) });
  const field = (f: FieldOf) =>
    data.veiled && (f.key === "patient" || f.key === "notes") ? (
      <p key={f.key} className="mb-3">
        <span className="mb-1 block font-semibold">{f.label}</span>
        <span className="dim">▒▒▒ veiled; V lifts the veil.</span>
      </p>
    ) : (
      <Field
        key={f.key}
        label={f.label}
        type={f.type}
        value={data.details[f.key] ?? ""}
        offers={f.shelf ? (shelves.data?.[f.shelf] ?? []).map((r) => r.name) : undefined}
        disabled={data.closed}
        onSet={(value) => doings.details({ [f.key]: value })}
      />
    );
  return (
    <>
      <header className="line border-b px-4 pt-3 pb-2">
        <h2 className="text-lg font-bold">Details</h2>
      </header>
      <div className="min-h-0 flex-1 overflow-y-auto px-4 py-3">
        {FIELDS.map(field)}
        <TeethChart
          value={data.details.teeth ?? ""}
          disabled={data.closed}
          onSet={(teeth) => doings.details({ teeth })}
        />
        <label className="mb-3 flex items-center justify-between gap-2">
          <span className="font-semibold">Opposing jaw</span>
          <select
            className="select select-sm w-36"
            value={data.details.opposing ?? ""}
            disabled={data.closed}
            onChange={(e) => doings.details({ opposing: e.target.value })}
          >
            <option value="">not said</option>
            <option value="upper">upper</option>
            <option value="lower">lower</option>
          </select>
        </label>
        {field(NOTES)}
        <p className="dim text-sm">Kept by itself as you type. None of it is needed to go on.</p>
        <Keeping data={data} doings={doings} />
      </div>
    </>
  );
}

interface FieldProps {
  label: string;
  type: "text" | "date" | "area";
  value: string;
  /** What is on the shelf: one of these is chosen, not any words. */
  offers?: string[];
  disabled: boolean;
  onSet: (value: string) => void;
}

function Field({ label, type, value, offers, disabled, onSet }: FieldProps) {
  const [text, setText] = useState(value);
  const last = useRef(value);
  useEffect(() => {
    // What is typed meanwhile stays: only a field that nobody has changed since follows.
    const before = last.current;
    last.current = value;
    setText((now) => (now === before ? value : now));
  }, [value]);
  const latest = useRef(onSet);
  latest.current = onSet;
  const offered = offers?.join("\n");
  useEffect(() => {
    // What is chosen from a shelf is sent when it is chosen, never half typed.
    if (text === value || (offered !== undefined && !offered.split("\n").includes(text))) return;
    // A pause keeps it: nothing typed is lost with the window.
    const pause = setTimeout(() => latest.current(text), 1500);
    return () => clearTimeout(pause);
  }, [text, value, offered]);
  const id = useId();
  const common = {
    id,
    disabled,
    value: text,
    onChange: (e: { target: { value: string } }) => setText(e.target.value),
    onBlur: () => {
      if (text === value) return;
      onSet(text);
      // What is not on the shelf stands here once it is taken; what is refused does not stay.
      if (offers && !offers.includes(text)) setText(value);
    },
  };
  return (
    <div className="mb-3">
      <label htmlFor={id} className="mb-1 block font-semibold">
        {label}
      </label>
      {type === "area" ? (
        <textarea className="textarea w-full" rows={5} {...common} />
      ) : (
        <input
          className="input w-full"
          type={type}
          list={offers && `${id}-offers`}
          {...common}
          onKeyDown={(e) => e.key === "Enter" && e.currentTarget.blur()}
        />
      )}
      {offers && (
        <datalist id={`${id}-offers`}>
          {offers.map((name) => (
            <option key={name} value={name} />
          ))}
        </datalist>
      )}
    </div>
  );
}

/** Who changed what and when, newest first. */
export function History({ data }: { data: CaseOut }) {
  const history = useQuery({
    queryKey: ["history", data.number, data.revision],
    queryFn: () => ok(client.GET("/api/cases/{number}/history", { params: { path: { number: data.number } } })),
  });
  return (
    <>
      <header className="line border-b px-4 pt-3 pb-2">
        <h2 className="text-lg font-bold">History</h2>
      </header>
      <ol className="min-h-0 flex-1 overflow-y-auto px-4 py-2">
        {history.data?.map((line) => (
          <li key={line.number} className="line border-b py-1.5">
            <span className="block">{line.what}</span>
            <span className="dim block text-sm">
              {line.who}, {moment(line.at)}
            </span>
          </li>
        ))}
      </ol>
    </>
  );
}
