import { useId, useState } from "react";
import type { Bay, Bottle, SettingOut } from "../shared/api/client";
import { NumberField } from "../shared/ui/NumberField";
import { bottleWords, useBottles } from "./bottles";
import { Lasts } from "./Lasts";

const FULL_ML = 1000;
const PRESS = "font-semibold whitespace-nowrap text-primary";

interface Props {
  bay: Bay | undefined;
  /** The record of the resin the plate is for; resins : the setting that chooses among them. */
  resin: string;
  resins: SettingOut | undefined;
  /** What the plate takes. */
  ml: number;
}

/** The bottle in a printer: whether it is the plate's resin and lasts, and what changes it. */
export function BottleLine({ bay, resin, resins, ml }: Props) {
  const [open, setOpen] = useState(false);
  if (!bay) return null;
  const { bottle } = bay;
  const name = (ident: string) => resins?.labels[ident] ?? ident;
  return (
    <section aria-label="Bottle" className="text-[13px]">
      <p className="flex gap-2 py-0.5">
        <span className={`min-w-0 flex-1 truncate ${bottle ? "" : "dim"}`} title={bottle ? bottleWords(bottle) : ""}>
          {bottle
            ? bottleWords(bottle)
            : bay.resin_ml === null
              ? "Nobody said which bottle is in it."
              : `${Math.round(bay.resin_ml)} ml of a bottle nobody named`}
        </span>
        <button type="button" className={PRESS} aria-expanded={open} onClick={() => setOpen(!open)}>
          {open ? "Close" : "Bottles"}
        </button>
      </p>
      {bottle && bottle.resin !== resin && (
        <p data-testid="other-resin" className="py-0.5 text-warning">
          ▲ {bottle.number} is {bottle.called}, the plate is for {name(resin)}: sent, it waits until that is in.
        </p>
      )}
      <Lasts bay={bay} ml={ml} />
      {open && <Stock bay={bay} resin={resin} resins={resins} />}
    </section>
  );
}

function Stock({ bay, resin, resins }: { bay: Bay; resin: string; resins: SettingOut | undefined }) {
  const { stock, busy, putInto, addInto, left, end } = useBottles(true);
  const id = useId();
  const [fresh, setFresh] = useState({ resin, lot: "", ml: FULL_ML });
  const here = stock.find((b) => b.bay === bay.id);
  // Those of the plate's resin first.
  const others = stock.filter((b) => b.bay !== bay.id).sort((a, b) => rank(a, resin) - rank(b, resin) || a.id - b.id);
  return (
    <div className="line mb-1.5 rounded-lg border px-2 py-1">
      {here && (
        <div className="line flex flex-wrap items-center gap-x-3 border-b py-1">
          <label className="flex items-center gap-1" htmlFor={`${id}left`}>
            Left in {here.number}
            <NumberField
              id={`${id}left`}
              value={Math.round(here.left_ml)}
              unit="ml"
              optional={false}
              narrow
              least={0}
              most={20000}
              onSet={(ml) => left(here, ml ?? 0)}
            />
          </label>
          <button type="button" className={PRESS} disabled={busy} onClick={() => putInto(here, "")}>
            Take out
          </button>
          <button type="button" className={PRESS} disabled={busy} onClick={() => end(here)}>
            It is empty
          </button>
        </div>
      )}
      <ul>
        {others.map((b) => (
          <li key={b.id} className="line flex gap-2 border-b py-1">
            <span className="min-w-0 flex-1 truncate" title={bottleWords(b)}>
              {bottleWords(b)}
            </span>
            <button
              type="button"
              className={PRESS}
              disabled={busy}
              title={b.bay ? "It is in another printer now" : ""}
              aria-label={`Put ${b.number} in`}
              onClick={() => putInto(b, bay.id)}
            >
              Put in
            </button>
          </li>
        ))}
      </ul>
      <form
        className="flex flex-wrap items-center gap-x-2 gap-y-1 py-1"
        onSubmit={(e) => {
          e.preventDefault();
          addInto(fresh.resin, fresh.lot, fresh.ml, bay.id).then(
            () => setFresh({ ...fresh, lot: "" }),
            () => {},
          );
        }}
      >
        <select
          aria-label="Resin of the new bottle"
          className="select select-xs min-w-0 flex-1"
          value={fresh.resin}
          onChange={(e) => setFresh({ ...fresh, resin: e.target.value })}
        >
          {(resins?.choices ?? []).map((ident) => (
            <option key={ident} value={ident}>
              {resins?.labels[ident] ?? ident}
            </option>
          ))}
        </select>
        <input
          aria-label="Lot of the new bottle"
          placeholder="Lot"
          className="input input-xs w-20"
          maxLength={60}
          value={fresh.lot}
          onChange={(e) => setFresh({ ...fresh, lot: e.target.value })}
        />
        <label className="flex items-center gap-1" htmlFor={`${id}ml`}>
          holds
          <NumberField
            id={`${id}ml`}
            value={fresh.ml}
            unit="ml"
            optional={false}
            narrow
            least={10}
            most={20000}
            onSet={(ml) => setFresh({ ...fresh, ml: ml ?? FULL_ML })}
          />
        </label>
        <button type="submit" className={PRESS} disabled={busy || !fresh.resin}>
          New, put in
        </button>
      </form>
    </div>
  );
}

const rank = (bottle: Bottle, resin: string) => (bottle.resin === resin ? 0 : 1);
