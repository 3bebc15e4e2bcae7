import type { DoubtOut, FixOut } from "../shared/api/client";
import { moment } from "../shared/format";
import { whose } from "./doubts";

interface Props {
  doubts: DoubtOut[];
  busy: boolean;
  onShow: (doubt: DoubtOut) => void;
  onFix?: (fix: FixOut, doubt: DoubtOut) => void;
  onAnswer: (ids: string[], yes: boolean) => void;
}

/** Doubts where one stands: step, sentence, Show, Fix, and of each its own yes. */
export function DoubtList({ doubts, busy, onShow, onFix, onAnswer }: Props) {
  if (doubts.length === 0) return null;
  const open = doubts.filter((d) => !d.at).length;
  const press = "font-semibold text-primary";
  return (
    <section aria-label="Doubts" className="mb-2 rounded-lg bg-[var(--look-ground)] px-3 py-1.5 text-[13px]">
      <b className="text-warning">
        {open > 0 ? `▲ ${open} ${open === 1 ? "doubt waits" : "doubts wait"} for a yes` : "All doubts have a yes"}
      </b>
      <ul className="max-h-52 overflow-y-auto">
        {doubts.map((doubt) => (
          <li key={doubt.id} className="line border-b py-1 last:border-0" data-doubt={doubt.id}>
            <p>
              <b>{whose(doubt)}:</b> {doubt.flag.message}
            </p>
            {doubt.at && (
              <p className="dim">
                Accepted by {doubt.who}, {moment(doubt.at)}
              </p>
            )}
            <p className="flex flex-wrap justify-end gap-x-3">
              <button type="button" className={press} onClick={() => onShow(doubt)}>
                Show
              </button>
              {onFix &&
                !doubt.at &&
                [doubt.flag.fix, doubt.flag.other].map(
                  (fix) =>
                    fix && (
                      <button
                        key={fix.label}
                        type="button"
                        className={press}
                        disabled={busy}
                        onClick={() => onFix(fix, doubt)}
                      >
                        {fix.label}
                      </button>
                    ),
                )}
              <OwnYes doubt={doubt} busy={busy} onAnswer={onAnswer} />
            </p>
          </li>
        ))}
      </ul>
    </section>
  );
}

/** The yes of one doubt. */
export function OwnYes({ doubt, busy, onAnswer }: { doubt: DoubtOut } & Pick<Props, "busy" | "onAnswer">) {
  return (
    <button
      type="button"
      className="font-semibold text-primary"
      disabled={busy}
      title={doubt.at ? "The doubt is open again" : "It may stand as it is; your name goes on the proof sheet"}
      onClick={() => onAnswer([doubt.id], !doubt.at)}
    >
      {doubt.at ? "Open again" : "Accept as it is"}
    </button>
  );
}
