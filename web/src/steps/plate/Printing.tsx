import { useQuery } from "@tanstack/react-query";
import { BottleLine } from "../../case/BottleLine";
import { bayStands, useBays, usePrinting } from "../../case/bays";
import { DoubtList } from "../../case/DoubtList";
import { mend, waitingOf } from "../../case/doubts";
import { detailOf, goodOf, nodesOf } from "../../case/look";
import { PrintLine } from "../../case/PrintLine";
import { isComing } from "../../case/states";
import { useShow } from "../../case/useShow";
import { type CaseOut, client, ok, type Print } from "../../shared/api/client";
import { duration } from "../../shared/format";
import type { CardProps } from "../../stage";

/** To the printer: how it stands, what it has of this case, and the button that sends the plate. */
export function Printing({ data, doings }: CardProps) {
  const { bays, prints } = useBays(data.number);
  const printing = usePrinting();
  const show = useShow();
  const steps = useQuery({
    queryKey: ["steps"],
    queryFn: () => ok(client.GET("/api/cases/steps")),
    staleTime: 600_000,
  });
  const plate = goodOf(data, "plate")?.plate;
  const bay = bays.find((b) => b.name === plate?.printer);
  const layers = nodesOf(data, "layers");
  // Of what is not there yet nobody can have seen anything, the print check's words neither.
  const coming = [...upTo(data)].filter((name) => isComing(data, name));
  const ready = layers.length > 0 && layers.every((n) => n.state === "done") && coming.length === 0;
  if (!plate) return null;
  const takes = goodOf(data, "takes")?.takes;
  const upToHere = (steps.data ?? []).filter((s) => upTo(data).has(s.name) && !s.on_demand);
  const { waiting: missing, plain, first } = waitingOf(data, upToHere);
  const names = plain.map((s) => s.name);
  const onItsWay = prints.some((p) => p.state === "waiting" || p.state === "sending");
  function send() {
    if (first) doings.accept(names);
    else if (names.length > 0) doings.accept(names, true, () => printing.send(data.number));
    else printing.send(data.number);
  }
  const words = !first
    ? `${missing.length > 0 ? "Accept all, print" : "Print"} on ${plate.printer}`
    : names.length > 0
      ? `Accept up to ${first.title}`
      : `${first.title} has a doubt`;
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
        <span className="dim flex-1">{bay ? bayStands(bay) : "not connected: take layers.zip to it"}</span>
      </p>
      <BottleLine
        key={bay?.id}
        bay={bay}
        resin={String(detailOf(data, "plate")?.settings.resin ?? "")}
        resins={steps.data?.find((s) => s.name === "plate")?.settings.find((s) => s.key === "resin")}
        ml={takes?.ml ?? Number.NaN}
      />
      {prints.slice(0, 4).map((print) => (
        <PrintLine key={print.id} print={print} old={isOld(data, print)} printing={printing} />
      ))}
      {bay && ready && (
        <DoubtList
          doubts={data.doubts.filter((d) => missing.some((s) => s.name === d.step))}
          busy={doings.busy}
          onShow={show}
          onFix={(fix) => mend(doings, fix)}
          onAnswer={doings.answer}
        />
      )}
      {bay && (
        <button
          type="button"
          className="btn btn-sm mt-2 h-9 w-full"
          disabled={onItsWay || printing.busy || doings.busy || !ready || (first !== null && names.length === 0)}
          title={ready ? "" : `Not worked out yet: ${coming.join(", ") || "layers"}`}
          onClick={send}
        >
          {printing.busy || onItsWay ? "On its way …" : words}
        </button>
      )}
    </section>
  );
}

function upTo(data: CaseOut): Set<string> {
  return new Set(data.nodes.filter((n) => !n.part_of && n.step !== "hand-off").map((n) => n.step));
}

/** Is the plate another by now than what was sent? */
function isOld(data: CaseOut, print: Print): boolean {
  const now = nodesOf(data, "layers").map((n) => goodOf(data, "layers", n.piece)?.sha256);
  return print.sent.length !== now.length || print.sent.some((digest) => !now.includes(digest));
}
