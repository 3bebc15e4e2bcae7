import { detailOf, goodOf } from "../../case/look";
import type { CardProps } from "../../stage";

const minutes = (m: number) => (m < 90 ? `${Math.round(m)} min` : `${(m / 60).toFixed(1)} h`);

interface Amount {
  ml: number;
  grams: number;
  cost: number | null;
  minutes: number;
}

const ROWS: [string, (a: Amount) => string | null][] = [
  ["Resin", (a) => `${a.ml.toFixed(1)} ml`],
  ["Weight", (a) => `${a.grams.toFixed(1)} g`],
  ["Cost of the resin", (a) => a.cost?.toFixed(2) ?? null],
  ["Printed alone in", (a) => minutes(a.minutes)],
];

/** What the body takes as it is made, and what it would take solid; on demand every style beside the others. */
export function Takes({ data, node, doings }: CardProps) {
  const amounts = node && goodOf(data, "amounts", node.piece)?.amounts;
  if (!node || !amounts) return null;
  const settings = detailOf(data, "hollow", node.piece)?.settings;
  const compares = settings?.compare === true;
  const styles = compares ? goodOf(data, "styles", node.piece)?.styles : null;
  const columns: [string, Amount | null][] = styles
    ? [
        ["solid", styles.solid],
        ["open", styles.open],
        ["closed", styles.closed],
      ]
    : [
        ["as it is", amounts.made],
        ["solid", amounts.solid],
      ];
  return (
    <section className="mt-3 text-[13px]">
      <table aria-label="What it takes" className="w-full">
        <caption className="dim pb-1 text-left text-xs">{amounts.resin}</caption>
        <thead>
          <tr className="dim text-left text-xs">
            <th />
            {columns.map(([name]) => (
              <th key={name} className="text-right font-semibold">
                {name === settings?.style ? <b className="text-primary">■ {name}</b> : name}
              </th>
            ))}
          </tr>
        </thead>
        <tbody>
          {ROWS.filter(([, of]) => columns.some(([, a]) => a && of(a) !== null)).map(([name, of]) => (
            <tr key={name} className="line border-t">
              <th className="py-1 text-left font-normal">{name}</th>
              {columns.map(([which, a]) => (
                <td key={which} className="text-right">
                  {a ? of(a) : "no room"}
                </td>
              ))}
            </tr>
          ))}
        </tbody>
      </table>
      {compares && !styles && <p className="dim py-1">Every style is being worked out …</p>}
      <button
        type="button"
        className="py-1 font-semibold text-primary"
        onClick={() => doings.set("hollow", "*", { compare: !compares })}
      >
        {compares ? "Only as it is" : "Compare all styles"}
      </button>
      {styles && <p className="dim text-xs">Without drains and label.</p>}
    </section>
  );
}
