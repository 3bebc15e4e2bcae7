import { useQuery, useQueryClient } from "@tanstack/react-query";
import { useState } from "react";
import { useNavigate } from "react-router";
import type { Doings } from "../../case/useCase";
import { type CaseOut, client, ok } from "../../shared/api/client";
import { day } from "../../shared/format";
import { say, sayError } from "../../store/notices";

/** Putting a case away, carrying it elsewhere, deleting it. */
export function Keeping({ data, doings }: { data: CaseOut; doings: Doings }) {
  const me = useQuery({ queryKey: ["me"], queryFn: () => ok(client.GET("/api/me")), staleTime: 60_000 });
  const queries = useQueryClient();
  const navigate = useNavigate();
  const [asking, setAsking] = useState(false);
  const over = data.keep_until !== "" && data.keep_until <= new Date().toISOString().slice(0, 10);
  const may = over || me.data?.person?.lead;
  async function gone() {
    try {
      await ok(client.DELETE("/api/cases/{number}", { params: { path: { number: data.number } } }));
      queries.removeQueries({ queryKey: ["case", data.number] });
      queries.invalidateQueries({ queryKey: ["rack"] });
      navigate("/");
      say(`Case ${data.number} is deleted.`);
    } catch (error) {
      sayError(error);
    }
  }
  return (
    <section aria-label="Keeping" className="line mt-4 border-t pt-3">
      <h3 className="dim mb-1 text-xs font-semibold tracking-wide uppercase">Keeping</h3>
      <p className="dim mb-2">
        {data.closed
          ? `Closed; kept until ${day(data.keep_until)}.`
          : "Open. A closed case leaves the rack and is kept."}
      </p>
      <div className="flex flex-wrap gap-2">
        <button type="button" className="btn btn-sm" onClick={data.closed ? doings.reopen : doings.close}>
          {data.closed ? "Open again" : "Close the case"}
        </button>
        <a
          className="btn btn-sm"
          href={`/api/cases/${data.number}/case.zip`}
          download
          title="Scans, settings, history and the files of the hand-off in one ZIP. Drop it on a rack to bring it in."
        >
          Whole case as ZIP
        </a>
        {!asking && (
          <button
            type="button"
            className="btn btn-sm"
            disabled={!may}
            title={may ? "" : "Before its time only a lead deletes a case."}
            onClick={() => setAsking(true)}
          >
            Delete …
          </button>
        )}
      </div>
      {asking && (
        <div role="alertdialog" aria-label="Delete this case" className="mt-2 rounded-lg bg-[var(--look-ground)] p-3">
          <p className="mb-2 font-semibold text-warning">
            ▲ Scans, settings and results of {data.number} go for good. One line stays that says who deleted it.
          </p>
          <div className="flex gap-2">
            <button type="button" className="btn btn-sm" onClick={() => setAsking(false)}>
              Keep it
            </button>
            <button type="button" className="btn btn-sm btn-error" onClick={gone}>
              Delete for good
            </button>
          </div>
        </div>
      )}
    </section>
  );
}
