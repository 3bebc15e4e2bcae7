import { useRef } from "react";
import { detailOf, nodeOf, pieceOf } from "../../case/look";
import { capital, duration } from "../../shared/format";
import type { CardProps } from "../../stage";

const NAMES: Record<string, string> = { flat: "Flat", level: "Level", half: "45°", steep: "75°" };

interface Way {
  way: string;
  tilt_deg: number | null;
  minutes: number;
  ml: number;
  cost: number | null;
  mm: number;
  tips: number;
  barred: number;
  finds: number;
  says: string;
}

const ROWS: [string, (w: Way) => string | null][] = [
  ["Alone in", (w) => duration(w.minutes)],
  ["Resin, ml", (w) => w.ml.toFixed(1)],
  ["Its cost", (w) => w.cost?.toFixed(2) ?? null],
  ["Tall, mm", (w) => w.mm.toFixed(1)],
  ["Tips", (w) => String(w.tips)],
  ["Not to be held", (w) => String(w.barred)],
  ["Print check finds", (w) => String(w.finds)],
];

/** What every way to lay the body that is looked at costs; a press on a way lays it so. */
export function Ways({ data, view, doings }: CardProps) {
  const settings = detailOf(data, "plate")?.settings;
  const asked = useRef(false);
  const piece = view.piece ? pieceOf(data, view.piece) : undefined;
  const compares = settings?.compare === true;
  const node = piece && nodeOf(data, "ways", piece.id);
  if (!piece?.jaw || !node) return null;
  const ways: Way[] = (compares && node.good?.ways) || [];
  const stands = (settings?.stands ?? {}) as Record<string, string>;
  const lays = stands[piece.id] ?? settings?.supports;
  const isNow = (way: Way) =>
    way.tilt_deg === null ? lays === "none" : lays === "all" && Number(settings?.tilt_deg) === way.tilt_deg;
  // Who asked for it is shown it, however long it took; nobody else is moved.
  function shown(table: HTMLTableElement | null) {
    if (!table || !asked.current) return;
    asked.current = false;
    table.scrollIntoView({ block: "nearest" });
  }
  return (
    <section className="mt-3 text-[13px]">
      {ways.length > 0 && (
        <table ref={shown} aria-label="Ways to lay" className="w-full">
          <caption className="dim pb-1 text-left text-xs">{capital(piece.jaw)}, alone on the plate</caption>
          <thead>
            <tr className="dim text-xs">
              <th />
              {ways.map((way) => (
                <th key={way.way} className="text-right font-semibold">
                  <button
                    type="button"
                    className={isNow(way) ? "font-bold text-primary" : "text-primary"}
                    aria-pressed={isNow(way)}
                    disabled={doings.busy}
                    title={way.tilt_deg ? "All bodies on supports are tilted so." : ""}
                    onClick={() =>
                      doings.set("plate", "*", {
                        stands: { ...stands, [piece.id]: way.tilt_deg === null ? "none" : "all" },
                        ...(way.tilt_deg === null ? {} : { tilt_deg: way.tilt_deg }),
                      })
                    }
                  >
                    {isNow(way) ? "■ " : ""}
                    {NAMES[way.way] ?? way.way}
                  </button>
                </th>
              ))}
            </tr>
          </thead>
          <tbody>
            {ROWS.filter(([, of]) => ways.some((way) => of(way) !== null)).map(([name, of]) => (
              <tr key={name} className="line border-t">
                <th className="py-1 text-left font-normal">{name}</th>
                {ways.map((way) => (
                  <td
                    key={way.way}
                    className="text-right tabular-nums"
                    title={name.startsWith("Print") ? way.says : ""}
                  >
                    {of(way)}
                  </td>
                ))}
              </tr>
            ))}
          </tbody>
        </table>
      )}
      {compares && ways.length === 0 && <p className="dim py-1">Every way is being worked out …</p>}
      <button
        type="button"
        className="py-1 font-semibold text-primary"
        disabled={doings.busy}
        onClick={() => {
          asked.current = !compares;
          doings.set("plate", "*", { compare: !compares });
        }}
      >
        {compares ? "Without the other ways" : "Compare ways to lay"}
      </button>
    </section>
  );
}
