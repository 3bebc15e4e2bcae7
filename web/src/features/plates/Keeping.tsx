import { useState } from "react";
import { useNavigate } from "react-router";
import type { Plate, Print } from "../../shared/api/client";
import { say } from "../../store/notices";
import type { PlateDoings } from "./usePlate";

/** The plate as files, and its end: one that was never printed can be deleted. */
export function Keeping({ plate, doings, prints }: { plate: Plate; doings: PlateDoings; prints: Print[] }) {
  const navigate = useNavigate();
  const [asking, setAsking] = useState(false);
  const made = plate.nodes.find((n) => n.step === "together")?.state;
  const called = plate.name || `Plate ${plate.id}`;
  const press = "font-semibold text-primary disabled:opacity-50";
  return (
    <section aria-label="Keeping" className="line mt-3 border-t pt-2 pb-1">
      <p className="flex flex-wrap gap-x-3">
        {made === "done" ? (
          ["3mf", "stl"].map((kind) => (
            <a key={kind} className={press} href={`/api/plates/${plate.id}/plate.${kind}`} download>
              plate.{kind}
            </a>
          ))
        ) : (
          <button
            type="button"
            className={press}
            disabled={made === "working" || plate.bodies.length === 0}
            title="All bodies as they lie, with what they stand on"
            onClick={doings.file}
          >
            {made === "working" ? "Writing …" : "Make 3MF and STL"}
          </button>
        )}
        {!asking && (
          <button
            type="button"
            className="dim ml-auto"
            title={
              prints.length > 0
                ? "It was printed, and is kept so that it can be printed again: only a lead deletes it"
                : ""
            }
            onClick={() => setAsking(true)}
          >
            Delete …
          </button>
        )}
      </p>
      {asking && (
        <div
          ref={(at) => at?.scrollIntoView({ block: "nearest" })}
          role="alertdialog"
          aria-label="Delete this plate"
          className="mt-2 rounded-lg bg-[var(--look-ground)] p-3"
        >
          <p className="mb-2 font-semibold text-warning">
            ▲ {called} goes for good{prints.length > 0 && ", and what it printed cannot be printed again"}. Its bodies
            stay in their cases.
          </p>
          <div className="flex gap-2">
            <button type="button" className="btn btn-sm" onClick={() => setAsking(false)}>
              Keep it
            </button>
            <button
              type="button"
              className="btn btn-sm btn-error"
              onClick={() =>
                doings.delete(() => {
                  navigate("/plates");
                  say(`${called} is deleted.`);
                })
              }
            >
              Delete for good
            </button>
          </div>
        </div>
      )}
    </section>
  );
}
