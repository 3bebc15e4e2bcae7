import { useId, useState } from "react";
import { detailOf } from "../../case/look";
import type { Doings } from "../../case/useCase";
import type { CaseOut } from "../../shared/api/client";
import { NumberField } from "../../shared/ui/NumberField";
import { useBench } from "../../store/bench";
import { bitesOf, change, chosenOf, entriesOf, measuredBy, type NamedBite } from "./bites";

const NUMBERS = [
  ["back_mm", "Forward", "mm", -1, 30],
  ["left_mm", "To the left", "mm", 1, 30],
  ["up_mm", "Up", "mm", 1, 30],
  ["raised_mm", "Open at the incisors", "mm", 1, 20],
  ["tilt_deg", "Tilted", "°", 1, 30],
  ["roll_deg", "Rolled", "°", 1, 30],
  ["turn_deg", "Turned", "°", 1, 30],
] as const;
const MOST = 8;

/** The bites of the pair: which one the models are made in, how the jaws stand in the others. */
export function Bites({ data, doings }: { data: CaseOut; doings: Doings }) {
  const bites = bitesOf(data);
  if (bites.length === 0) return null;
  const several = bites.length > 1;
  return (
    <section aria-label="Bites" className="mb-1 text-[13px]">
      {several && <h3 className="dim pt-1 text-xs font-semibold">Bites</h3>}
      {several && (
        <ul>
          {bites.map((bite) => (
            <Row key={bite.id} bite={bite} data={data} doings={doings} />
          ))}
        </ul>
      )}
      {bites.length <= MOST && (
        <button
          type="button"
          className="py-0.5 font-semibold text-primary"
          title="Forward, open for a splint: set from the first, or measured by bite scans of its own"
          onClick={() => doings.entry("bite", "*", ["bites"], "", { name: "" })}
        >
          Add a bite
        </button>
      )}
    </section>
  );
}

function Row({ bite, data, doings }: { bite: NamedBite; data: CaseOut; doings: Doings }) {
  const { beside, lookBeside } = useBench();
  const [open, setOpen] = useState(false);
  const chosen = chosenOf(data) === bite.id;
  const button = (name: string, run: () => void, pressed?: boolean) => (
    <button
      type="button"
      className="font-semibold whitespace-nowrap text-primary"
      aria-label={`${name}: ${bite.name}`}
      aria-pressed={pressed}
      onClick={run}
    >
      {name}
    </button>
  );
  return (
    <li className="line border-b py-1">
      <div className="flex items-center gap-2">
        <span className="min-w-0 flex-1 truncate" title={`${bite.how}${bite.why && `: ${bite.why}`}`}>
          <b>{bite.name}</b>
          <span className="dim"> {chosen ? "· models" : ""}</span>
        </span>
        {!chosen && bite.lower_to_upper && (
          <>
            {button("Look", () => lookBeside(beside === bite.id ? null : bite.id), beside === bite.id)}
            {button("Use", () => doings.set("bite", "*", { chosen: bite.id }))}
          </>
        )}
        {button(open ? "Close" : "Change", () => setOpen(!open), open)}
      </div>
      <p className={bite.why ? "text-warning" : "dim"}>{bite.why ? `▲ ${bite.why}` : standsWords(bite)}</p>
      {open && <Details bite={bite} data={data} doings={doings} />}
    </li>
  );
}

/** How the jaws meet in a bite, and where it has the lower's incisors against the first. */
function standsWords(bite: NamedBite): string {
  const meets = bite.overlap_mm
    ? `overlap ${bite.overlap_mm.toFixed(2)} mm`
    : `gap ${(bite.gap_mm ?? 0).toFixed(2)} mm`;
  const way = (mm: number, plus: string, minus: string) =>
    Math.abs(mm) < 0.005 ? [] : [`${Math.abs(mm).toFixed(2)} mm ${mm > 0 ? plus : minus}`];
  const [left, back, up] = bite.incisal_mm ?? [0, 0, 0];
  const moved = [...way(back, "back", "forward"), ...way(left, "left", "right"), ...way(up, "up", "down")];
  return [meets, ...(bite.id ? moved : [])].join(", ");
}

function Details({ bite, data, doings }: { bite: NamedBite; data: CaseOut; doings: Doings }) {
  const id = useId();
  const entry = entriesOf(data)[bite.id];
  const name = bite.id ? (entry?.name ?? "") : (detailOf(data, "bite")?.settings.name ?? "");
  const rename = (to: string) => {
    if (to === name) return;
    if (bite.id) change(doings, bite.id, { name: to });
    else doings.set("bite", "*", { name: to || "Habitual" });
  };
  const away = () => {
    doings.entry("bite", "*", ["bites"], bite.id, null);
    if (chosenOf(data) === bite.id) doings.set("bite", "*", { chosen: "" });
  };
  return (
    <div className="flex flex-wrap items-center gap-x-3 gap-y-1 pt-1">
      <label className="flex w-full items-center gap-2" htmlFor={`${id}name`}>
        Name
        <input
          key={name}
          id={`${id}name`}
          className="input input-xs min-w-0 flex-1"
          defaultValue={name}
          maxLength={40}
          placeholder={bite.name}
          onBlur={(e) => rename(e.target.value.trim())}
          onKeyDown={(e) => e.key === "Enter" && e.currentTarget.blur()}
        />
      </label>
      {bite.id ? (
        <>
          {NUMBERS.map(([key, label, unit, sign, most]) => (
            <label key={key} className="flex w-full items-center justify-between gap-2" htmlFor={id + key}>
              {label}
              <NumberField
                id={id + key}
                value={sign * (entry?.[key] ?? 0) || 0}
                unit={unit}
                optional={false}
                narrow
                least={key === "raised_mm" ? 0 : -most}
                most={most}
                onSet={(value) => change(doings, bite.id, { [key]: sign * (value ?? 0) || 0 })}
              />
            </label>
          ))}
          <button type="button" className="font-semibold text-primary" onClick={away}>
            Take away
          </button>
        </>
      ) : (
        <p className="dim">Found as the card says; nudged by hand or under More settings.</p>
      )}
    </div>
  );
}

/** Which bite a bite scan measured, where the pair has more than one. */
export function OfBite({ piece, data, doings }: { piece: string; data: CaseOut; doings: Doings }) {
  const bites = bitesOf(data);
  if (bites.length < 2) return null;
  const of = measuredBy(data, piece);
  const give = (to: string) => {
    const scans = (id: string) => entriesOf(data)[id]?.scans ?? [];
    if (of) change(doings, of, { scans: scans(of).filter((p) => p !== piece) });
    if (to) change(doings, to, { scans: [...scans(to), piece] });
  };
  return (
    <select
      aria-label="The bite it measured"
      title="The bite it measured"
      className="select select-xs ml-auto w-24"
      value={of}
      onChange={(e) => give(e.target.value)}
    >
      {bites.map((b) => (
        <option key={b.id} value={b.id}>
          {b.name}
        </option>
      ))}
    </select>
  );
}
