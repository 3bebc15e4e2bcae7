import type { Print } from "../shared/api/client";
import { bytes, moment } from "../shared/format";
import { isOpen, isUnder, printWords, timeLeft, type usePrinting } from "./bays";

interface Props {
  print: Print;
  /** The plate has changed since it was sent. */
  old: boolean;
  printing: ReturnType<typeof usePrinting>;
}

/** A plate at its printer, or on its way there: how far it is, what is in the way, and what can be done. */
export function PrintLine({ print, old, printing }: Props) {
  const trouble = print.state === "failed" || print.state === "stopped" || (isOpen(print) && print.says !== "");
  return (
    <div data-testid="print" className="line border-b py-1.5 text-[13px]">
      <p className="flex gap-2">
        <b>{print.name}</b>
        <span className="flex-1">{printWords(print)}</span>
        {isUnder(print) && (
          <button
            type="button"
            className="font-semibold text-primary"
            disabled={printing.busy}
            title={print.state === "paused" ? "At the layer it had reached" : "Until you let it go on"}
            onClick={() => (print.state === "paused" ? printing.resume(print.id) : printing.pause(print.id))}
          >
            {print.state === "paused" ? "Go on" : "Pause"}
          </button>
        )}
        {isOpen(print) && (
          <button type="button" className="font-semibold text-primary" onClick={() => printing.cancel(print.id)}>
            Cancel
          </button>
        )}
        {!isOpen(print) && (
          <button
            type="button"
            className="font-semibold text-primary"
            title="As it was sent, to the byte"
            onClick={() => printing.again(print.id)}
          >
            {print.state === "done" ? "Print again" : "Send again"}
          </button>
        )}
      </p>
      {isOpen(print) && (
        <progress
          className="progress progress-primary h-1.5"
          aria-label={`${print.name}, layers`}
          value={print.layer}
          max={print.layers || 1}
        />
      )}
      <p className={trouble ? "text-warning" : "dim"}>
        {trouble && "▲ "}
        {print.says ||
          (isOpen(print)
            ? timeLeft(print.seconds_left)
            : `${print.ended ? moment(print.ended) : ""}, ${bytes(print.bytes)}, ${print.resin_ml.toFixed(1)} ml`)}
        {old && " The plate has changed since."}
      </p>
      {print.bottles.length > 0 && (
        <p className="dim truncate" title="What it took of which bottle">
          {print.bottles.map((b) => `${b.number}${b.lot && `, lot ${b.lot}`}: ${b.ml.toFixed(1)} ml`).join("; ")}
        </p>
      )}
    </div>
  );
}
