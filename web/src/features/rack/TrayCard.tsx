import { Link } from "react-router";
import { isOpen, printWords } from "../../case/bays";
import type { Print, Tray } from "../../shared/api/client";
import { day } from "../../shared/format";
import { STATE_WORDS, type StepState } from "../../shared/ui/StateMark";

const BAR: Record<StepState, string> = {
  done: "bg-primary",
  look: "hatch",
  failed: "bg-error",
  working: "bg-primary/50",
  stale: "bg-[var(--dim)]",
  todo: "bg-base-300",
  off: "border border-base-300",
};
const TONE: Record<string, string> = { look: "text-warning", next: "text-primary", work: "", calm: "dim" };

export function TrayCard({ tray, print }: { tray: Tray; print: Print | undefined }) {
  const steps = tray.states.map((s) => `${s.title}: ${STATE_WORDS[s.state]}`).join(", ");
  return (
    <li>
      <Link
        to={`/case/${tray.number}`}
        className="line block overflow-hidden rounded-box border border-b-4 bg-base-100 hover:border-primary"
        aria-label={`Case ${tray.number}, ${tray.waits}`}
      >
        <div className="stage-ground grid h-[150px] place-items-center">
          {tray.picture ? (
            <img src={`/api/pictures/${tray.picture}.png`} alt="" className="h-full w-full object-contain" />
          ) : (
            <span className="dim">No picture yet</span>
          )}
        </div>
        <div className="px-3 pt-2 pb-3">
          <p className="flex justify-between">
            <b>{tray.number}</b>
            <span className="dim">{tray.due ? day(tray.due) : "no due date"}</span>
          </p>
          <p className="dim truncate">
            {[tray.practice, tray.purpose].filter(Boolean).join(" · ") || "No practice yet"}
          </p>
          <p className="dim truncate">{tray.patient || "No patient yet"}</p>
          <p className="my-2 flex gap-1" title={steps}>
            {tray.states.map((s) => (
              <span key={s.step} className={`h-1.5 flex-1 rounded-full ${BAR[s.state]}`} />
            ))}
          </p>
          <p className={`truncate font-semibold ${TONE[tray.tone] ?? ""}`} title={tray.waits}>
            {tray.tone === "look" ? "▲ " : ""}
            {tray.waits}
          </p>
          {print && print.state !== "cancelled" && (
            <p className={`truncate ${print.says && isOpen(print) ? "text-warning" : "dim"}`} title={print.says}>
              {print.printer}: {print.says && isOpen(print) ? print.says : printWords(print)}
            </p>
          )}
        </div>
      </Link>
    </li>
  );
}
