import { bayWords, isOpen, isUnder, printWords, timeLeft } from "../../case/bays";
import type { Bay, Print } from "../../shared/api/client";
import { DayLine } from "./DayLine";

interface Props {
  bays: Bay[];
  prints: Print[];
  /** The record of the printer whose plate is open. */
  at: string;
  onChoose: (bay: string) => void;
}

/** The printers: how each stands, what it prints, how long, what is left in its bottle. */
export function Bays({ bays, prints, at, onChoose }: Props) {
  return (
    <section aria-label="Bays" className="line flex shrink-0 gap-2 overflow-x-auto border-b bg-base-100 px-3 py-2">
      {bays.length === 0 && (
        <p className="dim py-2">
          No printer is connected: plates are laid out all the same, and layers.zip taken to one.
        </p>
      )}
      {bays.map((bay) => {
        const own = prints.filter((p) => p.bay === bay.id && isOpen(p)).reverse();
        const now = own.find(isUnder) ?? own[0];
        const trouble = bay.state === "stopped" || bay.state === "silent";
        return (
          <button
            key={bay.id}
            type="button"
            aria-pressed={bay.id === at}
            onClick={() => onChoose(bay.id)}
            title={`Plates of the ${bay.name}`}
            className={`line w-72 shrink-0 rounded-lg border px-3 py-1.5 text-left ${bay.id === at ? "bg-secondary" : "bg-base-100"}`}
          >
            <span className="flex items-baseline gap-2">
              <b>{bay.name}</b>
              <span className={`min-w-0 flex-1 truncate text-[13px] ${trouble ? "text-warning" : "dim"}`}>
                {trouble ? "▲ " : ""}
                {bayWords(bay)}
              </span>
            </span>
            <span className="flex items-center gap-2 text-[13px]">
              <Bottle ml={bay.bottle?.left_ml ?? bay.resin_ml} full={bay.bottle_ml} />
              <span className="min-w-0 flex-1 truncate">
                {now ? `${now.name}, ${printWords(now)}` : "nothing to print"}
              </span>
              <span className="dim whitespace-nowrap">
                {now?.state === "printing" ? timeLeft(now.seconds_left) : ""}
                {own.length > 1 ? ` +${own.length - 1}` : ""}
              </span>
            </span>
            <DayLine prints={prints.filter((p) => p.bay === bay.id)} bay={bay.id} />
          </button>
        );
      })}
    </section>
  );
}

function Bottle({ ml, full: held }: { ml: number | null; full: number }) {
  const full = Math.max(0, Math.min(1, (ml ?? 0) / held));
  return (
    <svg width="10" height="18" viewBox="0 0 10 18" className="shrink-0">
      <title>{ml === null ? "the bottle is not known" : `${Math.round(ml)} ml in the bottle`}</title>
      <path d="M3 .7h4v3l2.3 2v11.6H.7V5.7L3 3.7z" fill="none" stroke="var(--dim)" strokeWidth="1.2" />
      <rect x="1.6" y={16.6 - 10 * full} width="6.8" height={10 * full} fill="var(--color-accent)" />
    </svg>
  );
}
