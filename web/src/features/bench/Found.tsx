import { useState } from "react";
import { OwnYes } from "../../case/DoubtList";
import { mend, openDoubts, whose } from "../../case/doubts";
import { flagsOf, partsOf, partsOfPiece, pieceOf } from "../../case/look";
import type { Doings } from "../../case/useCase";
import type { CaseOut, DoubtOut, Flag, NodeDetail, NodeOut, StepOut } from "../../shared/api/client";
import { capital } from "../../shared/format";
import { Command } from "../../shared/ui/Command";
import { uiOf } from "../../steps";
import { type Point, useBench } from "../../store/bench";

const FEW = 3;
const ORDER: Record<Flag["severity"], number> = { stop: 0, look: 1, note: 2 };
const MARK: Record<Flag["severity"], string> = { note: "■", look: "▲", stop: "✕" };

/** What a step found, as sentences; the places among them can be walked through. */
export function Found({
  data,
  step,
  node,
  detail,
  place,
  doings,
}: {
  data: CaseOut;
  step: StepOut;
  node: NodeOut | undefined;
  detail: NodeDetail | undefined;
  /** Home coordinates of a piece to the stage. */
  place: (piece: string, point: Point) => Point;
  doings: Doings;
}) {
  const { pointAt, act } = useBench();
  const [all, setAll] = useState(false);
  // What is said of all of them together belongs to each.
  const together = detail?.piece === "*" ? [] : partsOf(data, step.name);
  const parts = detail && step.over !== "scans" ? ofParts(data, step.name, detail.piece) : [];
  const flags = [...together.flatMap(flagsOf), ...flagsOf(detail), ...parts];
  const elsewhere = unseen(data, step.name, flags);
  if (!node) return <p className="dim py-2">{step.about} It waits for a jaw scan.</p>;
  if (flags.length === 0)
    return (
      <>
        <p className="dim py-2">{(node.state === "todo" && detail?.waits_for) || step.about}</p>
        <Elsewhere doubts={elsewhere} onGo={act} />
      </>
    );
  const sorted = [...flags].sort((a, b) => ORDER[a.severity] - ORDER[b.severity]);
  const worth = sorted.filter((f) => f.severity !== "note").length;
  const few = all ? sorted : sorted.slice(0, Math.max(worth, FEW));
  const places = sorted.filter((f) => f.place);
  const own = new Map(data.doubts.filter((d) => d.step === step.name && d.own).map((d) => [d.flag.id, d]));
  function goTo(flag: Flag | undefined) {
    if (!flag?.place) return;
    // What is no jaw is kept off the stage until it is chosen.
    const on = pieceOf(data, flag.place.piece);
    if (on && !on.jaw) act(on.id);
    const { point_mm: at, facing } = flag.place;
    const point = place(flag.place.piece, at);
    const out = facing && place(flag.place.piece, [at[0] + facing[0], at[1] + facing[1], at[2] + facing[2]]);
    pointAt({
      point,
      facing: out ? [out[0] - point[0], out[1] - point[1], out[2] - point[2]] : undefined,
      radius: flag.place.radius_mm,
      text: flag.message,
      flag: flag.id,
    });
  }
  return (
    <>
      {places.length > 1 && <Walk places={places} goTo={goTo} />}
      <ul aria-label="What was found" className="mb-2">
        {few.map((flag) => {
          const { place, fix } = flag;
          return (
            <li
              key={flag.id}
              className={`line flex gap-x-2 border-b py-1.5 ${flag.other || own.has(flag.id) ? "flex-wrap justify-end" : ""}`}
            >
              <span
                aria-hidden="true"
                className={`pt-0.5 text-[10px] ${flag.severity === "note" ? "dim" : "text-warning"}`}
              >
                {MARK[flag.severity]}
              </span>
              <span className={flag.other || own.has(flag.id) ? "min-w-[85%] flex-1" : "min-w-0 flex-1"}>
                {flag.message}
              </span>
              {place && (
                <button type="button" className="self-start font-semibold text-primary" onClick={() => goTo(flag)}>
                  Show
                </button>
              )}
              {[fix, flag.other].map(
                (way) =>
                  way && (
                    <button
                      key={way.label}
                      type="button"
                      className="self-start font-semibold text-primary"
                      onClick={() => mend(doings, way)}
                    >
                      {way.label}
                    </button>
                  ),
              )}
              <Own doubt={own.get(flag.id)} doings={doings} />
            </li>
          );
        })}
        {few.length < sorted.length && (
          <li>
            <button type="button" className="py-1 font-semibold text-primary" onClick={() => setAll(true)}>
              {sorted.length - few.length} more
            </button>
          </li>
        )}
      </ul>
      <Elsewhere doubts={elsewhere} onGo={act} />
    </>
  );
}

/** What was asked for and not made needs a yes of its own, beside its sentence. */
function Own({ doubt, doings }: { doubt: DoubtOut | undefined; doings: Doings }) {
  if (!doubt) return null;
  return (
    <>
      {doubt.at && <span className="dim">accepted by {doubt.who}</span>}
      <OwnYes doubt={doubt} busy={doings.busy} onAnswer={doings.answer} />
    </>
  );
}

/** Doubts of this step that stand on the card of another scan: accepting the step accepts them too, so they are read here. */
function unseen(data: CaseOut, step: string, flags: Flag[]): DoubtOut[] {
  const here = new Set(flags.map((f) => f.id));
  return openDoubts(data, step).filter((d) => !here.has(d.flag.id));
}

function Elsewhere({ doubts, onGo }: { doubts: DoubtOut[]; onGo: (piece: string) => void }) {
  if (doubts.length === 0) return null;
  return (
    <ul aria-label="On other scans" className="mb-2 max-h-40 overflow-y-auto text-[13px]">
      {doubts.map((d) => (
        <li key={d.id} className="line flex gap-x-2 border-b py-1">
          <span aria-hidden="true" className="pt-0.5 text-[10px] text-warning">
            ▲
          </span>
          <span className="min-w-0 flex-1">
            <b>{whose(d)}:</b> {d.flag.message}
          </span>
          {d.piece !== "*" && (
            <button type="button" className="self-start font-semibold text-primary" onClick={() => onGo(d.piece)}>
              Go there
            </button>
          )}
        </li>
      ))}
    </ul>
  );
}

/** What the parts of a step found: on this piece, or on every one, each with its jaw's name and that of its part. */
function ofParts(data: CaseOut, step: string, piece: string): Flag[] {
  if (!uiOf(step).gathers) return partsOfPiece(data, step, piece).flatMap(flagsOf);
  return partsOfPiece(data, step, null).flatMap((d) => {
    const jaw = pieceOf(data, d.piece)?.jaw;
    const part = d.piece.split(".").slice(1).join(" ").replaceAll("-", " ");
    const whose = jaw && [capital(jaw), part].filter(Boolean).join(", ");
    return flagsOf(d).map((f) => (whose ? { ...f, message: `${whose}: ${f.message}` } : f));
  });
}

/** From one place to the next, by key or by click. */
function Walk({ places, goTo }: { places: Flag[]; goTo: (flag: Flag | undefined) => void }) {
  const focus = useBench((s) => s.focus);
  const at = places.findIndex((f) => f.id === focus?.flag);
  const by = (step: number) => goTo(places[(Math.max(at, step > 0 ? -1 : 0) + step + places.length) % places.length]);
  return (
    <div className="dim flex items-center justify-end gap-1 text-xs">
      <Command id="next-place" title="Examine the next place" keys="e" group="Stage" run={() => by(1)} />
      <Command id="last-place" title="Examine the place before" keys="shift+e" group="Stage" run={() => by(-1)} />
      <span data-testid="walk">{at < 0 ? `${places.length} places` : `Place ${at + 1} of ${places.length}`}</span>
      <button
        type="button"
        className="btn btn-xs"
        aria-label="Place before"
        title="Place before (Shift+E)"
        onClick={() => by(-1)}
      >
        ‹
      </button>
      <button type="button" className="btn btn-xs" aria-label="Next place" title="Next place (E)" onClick={() => by(1)}>
        ›
      </button>
    </div>
  );
}
