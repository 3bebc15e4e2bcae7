import { useQuery } from "@tanstack/react-query";
import { useState } from "react";
import { client, ok } from "../../shared/api/client";
import type { components } from "../../shared/api/schema.gen";

type ShelfRecord = components["schemas"]["RecordOut"];

const WAYS = ["width", "depth", "height"] as const;
type Measured = Record<(typeof WAYS)[number], string>;

/** The strip of known lengths, and what its measured ones ask of a resin. */
export function SizeStrip({ records, keep }: { records: ShelfRecord[]; keep?: (record: ShelfRecord) => void }) {
  const [measured, setMeasured] = useState<Measured>({ width: "", depth: "", height: "" });
  const [ident, setIdent] = useState("");
  const query = Object.fromEntries(WAYS.filter((way) => measured[way]).map((way) => [way, Number(measured[way])]));
  const asked = useQuery({
    queryKey: ["size-correction", query],
    queryFn: () => ok(client.GET("/api/house/size-correction", { params: { query } })),
    enabled: keep !== undefined && Object.keys(query).length > 0,
    retry: false,
  });
  const found = Object.entries(asked.data ?? {}).filter((entry): entry is [string, number] => entry[1] !== null);
  const resin = records.find((r) => r.id === ident) ?? records[0];
  return (
    <section className="dim py-1" aria-label="Size strip">
      <p>
        <a className="font-semibold text-primary" href="/api/house/size-strip.3mf" download>
          Size strip
        </a>{" "}
        has three known lengths. Print it as it is, which the plate room does from its shelf, and measure them.
      </p>
      {keep && resin && (
        <form
          className="flex flex-wrap items-center gap-2 py-1 text-xs"
          onSubmit={(e) => {
            e.preventDefault();
            if (found.length === 0) return;
            keep({ ...resin, data: { ...resin.data, ...Object.fromEntries(found) } });
            setMeasured({ width: "", depth: "", height: "" });
          }}
        >
          {WAYS.map((way) => (
            <label key={way} className="flex items-center gap-1">
              {way === "width" ? "Measured width" : way}
              <input
                className="input input-sm w-20 px-2"
                type="number"
                step="any"
                min="1"
                aria-label={`Measured ${way}`}
                value={measured[way]}
                onChange={(e) => setMeasured({ ...measured, [way]: e.target.value })}
              />
              <span>mm</span>
            </label>
          ))}
          {found.length > 0 && (
            <>
              <output className="tabular-nums text-base-content">
                {found.map(([, percent]) => `${percent > 0 ? "+" : ""}${percent.toFixed(2)} %`).join(", ")}
              </output>
              <select
                className="select select-sm w-32"
                aria-label="Resin it was printed of"
                value={resin.id}
                onChange={(e) => setIdent(e.target.value)}
              >
                {records.map((r) => (
                  <option key={r.id} value={r.id}>
                    {r.name}
                  </option>
                ))}
              </select>
              <button type="submit" className="btn btn-sm btn-primary">
                Keep with it
              </button>
            </>
          )}
          {asked.error && <span className="text-warning">{asked.error.message}</span>}
        </form>
      )}
    </section>
  );
}
