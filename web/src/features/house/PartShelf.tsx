import { useState } from "react";
import { type HousePart, useHouseParts, usePartWork } from "../../shared/houseParts";
import { TakeOff } from "./TakeOff";

/** Closed bodies of the lab's own that cases take up and put on a base. */
export function PartShelf({ lead }: { lead: boolean }) {
  const parts = useHouseParts();
  const work = usePartWork();
  if (!parts.data) return null;
  return (
    <section className="line rounded-box border bg-base-100 p-4" aria-label="House parts">
      <div className="flex items-baseline justify-between">
        <h2 className="font-bold">House parts</h2>
        {lead && (
          <label className="cursor-pointer font-semibold text-primary focus-within:underline">
            Add a part
            <input
              type="file"
              multiple
              accept=".stl,.3mf,.ply,.obj,.zip"
              className="sr-only"
              onChange={(e) => {
                const files = [...(e.target.files ?? [])];
                e.target.value = "";
                if (files.length > 0) work.put(files);
              }}
            />
          </label>
        )}
      </div>
      <p className="dim py-1">
        Closed bodies of your own, in mm, as STL or 3MF. Articulate puts them on a base with one of their flat faces;
        the largest is the first.
      </p>
      <ul>
        {parts.data.map((part) => (
          <li key={`${part.id}/${part.name}/${part.face}/${part.turn_deg}`} className="line border-b py-1">
            <Entry part={part} lead={lead} keep={work.change} remove={() => work.takeOff(part.id)} />
          </li>
        ))}
      </ul>
    </section>
  );
}

interface EntryProps {
  part: HousePart;
  lead: boolean;
  keep: (part: HousePart) => void;
  remove: () => void;
}

function Entry({ part, lead, keep, remove }: EntryProps) {
  const [now, setNow] = useState(part);
  const changed = now.name !== part.name || now.face !== part.face || now.turn_deg !== part.turn_deg;
  const whole = now.name.trim() !== "" && Number.isInteger(now.face) && now.face >= 1 && now.face <= 12;
  return (
    <form
      className="flex flex-wrap items-center gap-2"
      onSubmit={(e) => {
        e.preventDefault();
        if (changed && whole) keep(now);
      }}
    >
      <input
        className="input input-sm w-36"
        aria-label={`Name of ${part.name}`}
        title={part.file}
        value={now.name}
        disabled={!lead}
        onChange={(e) => setNow({ ...now, name: e.target.value })}
      />
      <Amount label="Face" value={now.face} disabled={!lead} onSet={(face) => setNow({ ...now, face })} />
      <Amount
        label="Turned"
        unit="°"
        value={now.turn_deg}
        disabled={!lead}
        onSet={(d) => setNow({ ...now, turn_deg: d })}
      />
      <span className="flex-1" />
      {lead && changed && (
        <button type="submit" className="btn btn-sm btn-primary" disabled={!whole}>
          Keep
        </button>
      )}
      {lead && <TakeOff name={part.name} onPress={remove} />}
    </form>
  );
}

interface NumberProps {
  label: string;
  unit?: string;
  value: number;
  disabled: boolean;
  onSet: (value: number) => void;
}

function Amount({ label, unit, value, disabled, onSet }: NumberProps) {
  return (
    <label className="flex items-center gap-1 text-xs">
      {label}
      <input
        className="input input-sm w-16 px-2"
        type="number"
        step="any"
        value={value}
        disabled={disabled}
        onChange={(e) => onSet(Number(e.target.value))}
      />
      {unit && <span className="dim">{unit}</span>}
    </label>
  );
}
