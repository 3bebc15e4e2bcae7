import { useId } from "react";
import { capital } from "../../shared/format";
import { NumberField } from "../../shared/ui/NumberField";
import type { CardProps } from "../../stage";
import { areMade, type Die, diesOf, jawsOf, type Kind, MOVED_MM, sayOf, type Taken, takenOf, withWall } from "./dies";

const KINDS: [Kind, string][] = [
  ["die", "Die"],
  ["loose", "Comes out"],
  ["left", "Stays"],
];

/** Every tooth that comes out, and those that were told to stay: what it is, which way it goes, where its walls stand. */
export function DieList({ data, doings }: CardProps) {
  if (!areMade(data)) return null;
  const jaws = jawsOf(data).map((piece) => {
    const dies = diesOf(data, piece.id);
    const said = Object.values(takenOf(data, piece.id));
    const numbers = new Set([...dies.map((d) => d.fdi), ...said.map((t) => t.fdi)]);
    return { piece, dies, said, numbers: [...numbers].sort((a, b) => a - b) };
  });
  if (jaws.every((j) => j.numbers.length === 0)) return null;
  return (
    <section aria-label="Dies" className="mt-3 text-[13px]">
      {jaws.map(({ piece, dies, said, numbers }) => (
        <ul key={piece.id} aria-label={`Dies of the ${piece.jaw}`}>
          {numbers.map((fdi) => (
            <Row
              key={fdi}
              fdi={fdi}
              jaw={capital(piece.jaw ?? "")}
              die={dies.find((d) => d.fdi === fdi)}
              said={said.find((t) => t.fdi === fdi)}
              say={(values) => sayOf(doings, piece.id, fdi, values)}
            />
          ))}
        </ul>
      ))}
    </section>
  );
}

interface RowProps {
  fdi: number;
  jaw: string;
  die: Die | undefined;
  said: Taken | undefined;
  say: (values: Partial<Taken> | null) => void;
}

function Row({ fdi, jaw, die, said, say }: RowProps) {
  const kind = said?.kind ?? (die?.kind as Kind | undefined) ?? "die";
  const words = die
    ? `seat ${die.seat_mm2.toFixed(0)} mm², shaft ${die.long_mm.toFixed(1)} mm`
    : kind === "left"
      ? "in the model"
      : "not made";
  return (
    <li className="line border-b py-1.5">
      <div className="flex items-center gap-2">
        <b title={`${jaw} jaw`}>{fdi}</b>
        <span className="dim min-w-0 flex-1 truncate">{words}</span>
        <select
          aria-label={`${fdi}: what becomes of it`}
          className="select select-xs w-28"
          value={kind}
          onChange={(e) => say({ kind: e.target.value as Kind })}
        >
          {KINDS.map(([value, title]) => (
            <option key={value} value={value}>
              {title}
            </option>
          ))}
        </select>
      </div>
      {die && <Walls die={die} said={said} say={say} />}
    </li>
  );
}

/** Which way it comes out, and the walls to the teeth beside it. */
function Walls({ die, said, say }: { die: Die; said: Taken | undefined; say: RowProps["say"] }) {
  const id = useId();
  const walls = said?.walls ?? {};
  return (
    <div className="flex flex-wrap items-center gap-x-3 gap-y-1 pt-1">
      <span className="dim">{die.lean_deg < 0.05 ? "upright" : `leans ${die.lean_deg.toFixed(1)}°`}</span>
      {die.by_hand && (
        <button
          type="button"
          className="font-semibold text-primary"
          aria-label={`Way by itself: ${die.fdi}`}
          onClick={() => say({ way: null })}
        >
          By itself
        </button>
      )}
      {die.walls.map((wall) => (
        <label
          key={wall.fdi}
          className="flex items-center gap-1"
          htmlFor={`${id}${wall.fdi}`}
          title="Off its place half way between the two; empty: by itself"
        >
          Wall towards {wall.fdi}
          <NumberField
            id={`${id}${wall.fdi}`}
            value={walls[wall.fdi] ?? null}
            auto={wall.moved_mm.toFixed(2)}
            unit="mm"
            optional
            narrow
            least={-MOVED_MM}
            most={MOVED_MM}
            onSet={(mm) => say({ walls: withWall(walls, wall.fdi, mm) })}
          />
        </label>
      ))}
    </div>
  );
}
