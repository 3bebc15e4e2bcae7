import { Link } from "react-router";
import { isOpen, printWords, timeLeft } from "../../case/bays";
import { bottleWords } from "../../case/bottles";
import type { Bay, Print } from "../../shared/api/client";

const TITLE = "dim line mb-1 border-b pb-1 text-xs font-semibold tracking-wide uppercase";

/** Every printer that is connected: what it does, and whose plate it has. */
export function Printers({ bays, prints }: { bays: Bay[]; prints: Print[] }) {
  if (bays.length === 0) return null;
  return (
    <section aria-label="Printers" className="mt-6">
      <h2 className={TITLE}>Printers</h2>
      {bays.map((bay) => {
        const own = prints.filter((p) => p.bay === bay.id && isOpen(p)).reverse();
        return (
          <div key={bay.id} className="line border-b py-1.5">
            <p className="flex justify-between gap-2">
              <b>{bay.name}</b>
              <span className={bay.state === "stopped" || bay.state === "silent" ? "text-warning" : "dim"}>
                {bay.state === "stopped" || bay.state === "silent" ? "▲ " : ""}
                {bay.says || bay.state}
              </span>
            </p>
            {(bay.bottle || bay.resin_ml !== null) && (
              <p className="dim">
                {bay.bottle ? bottleWords(bay.bottle) : `${Math.round(bay.resin_ml ?? 0)} ml in the bottle`}
              </p>
            )}
            {own.map((p) => (
              <p key={p.id}>
                <Link
                  to={p.plate === null ? `/case/${p.case}` : `/plates/${p.plate}`}
                  className="font-semibold text-primary"
                >
                  {p.name}
                </Link>{" "}
                {printWords(p)}
                {p.state === "printing" && <span className="dim">, {timeLeft(p.seconds_left)}</span>}
              </p>
            ))}
          </div>
        );
      })}
    </section>
  );
}
