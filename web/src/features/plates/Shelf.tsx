import { useState } from "react";
import type { ReadyBody } from "../../shared/api/client";
import { capital, day } from "../../shared/format";
import type { PlateDoings } from "./usePlate";

/** What is dragged from the shelf: a case and its bodies. */
export const DRAGGED = "application/x-bench-bodies";

interface Props {
  shelf: ReadyBody[];
  doings: PlateDoings;
  /** Is there a plate to put them on? */
  open: boolean;
}

/** Bodies of all open cases, what is due first in front: dragged onto the plate, or put there with Enter. */
export function Shelf({ shelf, doings, open }: Props) {
  const [all, setAll] = useState(false);
  const seen = shelf.filter((b) => all || b.plate === null);
  const cases = [...new Set(seen.map((b) => b.case))];
  return (
    <aside aria-label="Shelf" className="line flex w-60 shrink-0 flex-col border-r bg-base-100">
      <header className="line flex items-center gap-2 border-b px-3 py-2">
        <h2 className="flex-1 font-bold">Shelf</h2>
        <label className="flex items-center gap-1 text-[13px]">
          <input
            type="checkbox"
            className="checkbox checkbox-xs rounded-sm"
            checked={all}
            onChange={(e) => setAll(e.target.checked)}
          />
          on a plate too
        </label>
      </header>
      <ul className="min-h-0 flex-1 overflow-y-auto">
        {cases.every((number) => number === "") && (
          <li className="dim p-3">Every body that is worked out lies on a plate.</li>
        )}
        {cases.map((number) => (
          <OneCase key={number} bodies={seen.filter((b) => b.case === number)} doings={doings} open={open} />
        ))}
      </ul>
    </aside>
  );
}

function OneCase({ bodies, doings, open }: { bodies: ReadyBody[]; doings: PlateDoings; open: boolean }) {
  const first = bodies[0];
  if (!first) return null;
  const free = bodies.filter((b) => b.plate === null);
  const drag = (addresses: string[]) => (e: React.DragEvent) => {
    e.stopPropagation();
    e.dataTransfer.setData(DRAGGED, JSON.stringify({ case: first.case, addresses }));
    e.dataTransfer.effectAllowed = "copy";
  };
  return (
    <li
      className="line border-b px-3 py-2"
      draggable={open}
      onDragStart={drag(free.map((b) => b.address))}
      data-testid={`shelf-${first.case || "house"}`}
      title={
        first.case ? undefined : "They find out what air a die needs, and how much larger bodies are to be printed"
      }
    >
      <p className="flex items-baseline gap-2">
        <b>{first.case || "Strips of the house"}</b>
        <span className="dim min-w-0 flex-1 truncate text-[13px]">{first.patient || first.practice}</span>
        {first.due && <span className="text-[13px] whitespace-nowrap">{day(first.due)}</span>}
      </p>
      {first.waits && (
        <p className="text-[13px] text-warning" title={first.waits}>
          ▲ {first.waits}
        </p>
      )}
      <p className="flex flex-wrap gap-1 pt-1">
        {bodies.map((body) => (
          <button
            key={body.address}
            type="button"
            draggable={open}
            onDragStart={drag([body.address])}
            disabled={!open || doings.busy}
            onClick={() => doings.put(first.case, [body.address])}
            title={
              body.plate === null ? "Put it on the plate" : `It lies on plate ${body.plate}; put it on this one too`
            }
            className={`line rounded-md border px-2 py-0.5 text-[13px] ${body.plate === null ? "bg-base-200" : "dim border-dashed"}`}
          >
            {nameOf(body)}
            {body.plate !== null && ` · plate ${body.plate}`}
          </button>
        ))}
        {first.case && free.length > 1 && (
          <button
            type="button"
            disabled={!open || doings.busy}
            onClick={() =>
              doings.put(
                first.case,
                free.map((b) => b.address),
              )
            }
            className="px-1 text-[13px] font-semibold text-primary"
          >
            All {free.length}
          </button>
        )}
      </p>
    </li>
  );
}

function nameOf(body: ReadyBody): string {
  return capital(body.part ? body.part.replace("-", " ") : body.jaw || body.address);
}
