import { isOpen, printWords, timeLeft, useBays, usePrinting } from "../../case/bays";
import { asks, goodOf, nodesOf } from "../../case/look";
import type { CaseOut, Print } from "../../shared/api/client";
import { bytes, moment } from "../../shared/format";
import type { CardProps } from "../../stage";

/** To the printer: how it stands, what it has of this case, and the button that sends the plate. */
export function Printing({ data, doings }: CardProps) {
  const { bays, prints } = useBays(data.number);
  const printing = usePrinting();
  const plate = goodOf(data, "plate")?.plate;
  const bay = bays.find((b) => b.name === plate?.printer);
  const layers = nodesOf(data, "layers");
  const ready = layers.length > 0 && layers.every((n) => n.state === "done");
  if (!plate) return null;
  const takes = goodOf(data, "takes")?.takes;
  const missing = unasked(data);
  const send = () =>
    missing.length > 0 ? doings.accept(missing, true, () => printing.send(data.number)) : printing.send(data.number);
  return (
    <section aria-label="Print" className="mb-3">
      {takes && (
        <p data-testid="takes" className="pb-2">
          {takes.layers.toLocaleString("en-GB")} layers, {duration(takes.minutes)}, {takes.ml.toFixed(1)} ml,{" "}
          {takes.grams.toFixed(1)} g{takes.cost != null && `, resin for ${takes.cost.toFixed(2)}`}
        </p>
      )}
      <p className="line flex items-baseline gap-2 border-b pb-1">
        <b>{plate.printer}</b>
        <span className="dim flex-1">{bay ? bayWords(bay) : "not connected: take layers.zip to it"}</span>
      </p>
      {prints.slice(0, 4).map((print) => (
        <OnePrint key={print.id} data={data} print={print} printing={printing} />
      ))}
      {bay && (
        <button
          type="button"
          className="btn btn-sm mt-2 h-9 w-full"
          disabled={printing.busy || doings.busy || !ready}
          title={ready ? "" : "The layers are not worked out yet"}
          onClick={send}
        >
          {missing.length > 0 ? "Accept all, print" : "Print"} on {plate.printer}
        </button>
      )}
    </section>
  );
}

/** Steps up to the plate that wait for a yes: nothing is printed that nobody has looked at. */
function unasked(data: CaseOut): string[] {
  const names = new Set(data.nodes.filter((n) => !n.part_of && n.step !== "hand-off").map((n) => n.step));
  return [...names].filter((name) => asks(data, { name, on_demand: false }));
}

function duration(minutes: number): string {
  return minutes < 90 ? `${Math.round(minutes)} min` : `${(minutes / 60).toFixed(1)} h`;
}

function bayWords(bay: { state: string; says: string; resin_ml: number | null }): string {
  const bottle = bay.resin_ml === null ? "" : `, ${Math.round(bay.resin_ml)} ml in the bottle`;
  return bay.says || `${bay.state}${bottle}`;
}

function OnePrint({
  data,
  print,
  printing,
}: {
  data: CaseOut;
  print: Print;
  printing: ReturnType<typeof usePrinting>;
}) {
  const now = nodesOf(data, "layers").map((n) => goodOf(data, "layers", n.piece)?.sha256);
  const old = print.sent.length !== now.length || print.sent.some((digest) => !now.includes(digest));
  const trouble = print.state === "failed" || print.state === "stopped" || (isOpen(print) && print.says !== "");
  return (
    <div data-testid="print" className="line border-b py-1.5 text-[13px]">
      <p className="flex gap-2">
        <b>{print.name}</b>
        <span className="flex-1">{printWords(print)}</span>
        {isOpen(print) && (
          <button type="button" className="font-semibold text-primary" onClick={() => printing.cancel(print.id)}>
            Cancel
          </button>
        )}
        {(print.state === "failed" || print.state === "cancelled") && !old && (
          <button type="button" className="font-semibold text-primary" onClick={() => printing.again(print.id)}>
            Send again
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
    </div>
  );
}
