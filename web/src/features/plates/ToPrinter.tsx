import { BottleLine } from "../../case/BottleLine";
import { bayStands, type Fault, usePrinting } from "../../case/bays";
import { PrintLine } from "../../case/PrintLine";
import type { Bay, Plate, Print, SettingOut } from "../../shared/api/client";
import { duration } from "../../shared/format";
import type { StepState } from "../../shared/ui/StateMark";
import { Waits } from "./Waits";

interface PrintProps {
  plate: Plate;
  settings: SettingOut[];
  bays: Bay[];
  prints: Print[];
  state: StepState;
}

/** What it takes, what was sent of it, and the button that sends it. */
export function ToPrinter({ plate, settings, bays, prints, state }: PrintProps) {
  const printing = usePrinting();
  const takes = plate.nodes.find((n) => n.step === "takes")?.readings ?? [];
  const value = (name: string) => Number(takes.find((r) => r.name === name)?.value ?? Number.NaN);
  const bay = bays.find((b) => b.id === plate.settings.pack?.printer);
  const cost = value("cost of the resin");
  const onItsWay = prints.some((p) => p.state === "waiting" || p.state === "sending");
  const ready = plate.layers !== "" && state !== "failed" && state !== "working";
  return (
    <section aria-label="Print" className="line border-t px-4 py-2">
      {takes.length > 0 && plate.bodies.length > 0 && (
        <p data-testid="takes">
          {value("layers").toLocaleString("en-GB")} layers, {duration(value("printing"))}, {value("resin").toFixed(1)}{" "}
          ml, {value("weight").toFixed(1)} g{Number.isFinite(cost) && `, resin for ${cost.toFixed(2)}`}
        </p>
      )}
      {prints.slice(0, 3).map((print) => (
        <PrintLine key={print.id} print={print} old={print.layers > 0 && state === "working"} printing={printing} />
      ))}
      <p className="dim py-1 text-[13px]">
        {plate.printer || "The printer"}: {bay ? bayStands(bay) : "not connected, take layers.zip to it"}
      </p>
      <BottleLine
        key={bay?.id}
        bay={bay}
        resin={String(plate.settings.pack?.resin ?? "")}
        resins={settings.find((s) => s.key === "resin")}
        ml={value("resin")}
      />
      <Waits plate={plate} />
      {bay?.stand_in && <Practice bay={bay} onFault={(kind) => printing.practise(bay.id, kind)} />}
      <button
        type="button"
        className="btn btn-primary w-full"
        disabled={!ready || !bay || printing.busy || onItsWay}
        title={ready ? "" : "What is worked out does not allow it yet"}
        onClick={() => printing.sendPlate(plate.id)}
      >
        {printing.busy || onItsWay ? "On its way …" : `Print on ${plate.printer || "…"}`}
      </button>
    </section>
  );
}

const FAULTS: [Fault, string][] = [
  ["none", "all is well"],
  ["door", "the door is open"],
  ["cold", "the resin is too cold"],
  ["layer", "something came off"],
  ["resin", "the bottle is empty"],
  ["connection", "the line breaks at the next file"],
  ["power", "it has no power"],
  ["fill", "the bottle is filled"],
];

/** A stand-in can be made to fail, so that one learns what to do. */
function Practice({ bay, onFault }: { bay: Bay; onFault: (kind: Fault) => void }) {
  return (
    <label className="dim flex items-center gap-2 pb-1.5 text-[13px]">
      A stand-in:
      <select
        aria-label="Practise a fault"
        className="select select-xs min-w-0 flex-1"
        value={bay.state === "silent" ? "power" : bay.fault || "none"}
        onChange={(e) => onFault(e.target.value as Fault)}
      >
        {FAULTS.map(([kind, words]) => (
          <option key={kind} value={kind}>
            {words}
          </option>
        ))}
      </select>
    </label>
  );
}
