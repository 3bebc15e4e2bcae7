import { goodOf } from "../../case/look";
import type { CardProps, StepUi } from "../../stage";

const minutes = (m: number) => (m < 90 ? `${Math.round(m)} min` : `${(m / 60).toFixed(1)} h`);

/** What the body takes as it is made, and what it would take solid. */
function Below({ data, node }: CardProps) {
  const amounts = node && goodOf(data, "amounts", node.piece)?.amounts;
  if (!amounts) return null;
  const { made, solid } = amounts;
  const rows: [string, string, string][] = [
    ["Resin", `${made.ml.toFixed(1)} ml`, `${solid.ml.toFixed(1)} ml`],
    ["Weight", `${made.grams.toFixed(1)} g`, `${solid.grams.toFixed(1)} g`],
    ["Printed alone in", minutes(made.minutes), minutes(solid.minutes)],
  ];
  if (made.cost != null && solid.cost != null)
    rows.push(["Cost of the resin", made.cost.toFixed(2), solid.cost.toFixed(2)]);
  return (
    <table aria-label="What it takes" className="mt-3 w-full text-[13px]">
      <caption className="dim pb-1 text-left text-xs">{amounts.resin}</caption>
      <thead>
        <tr className="dim text-left text-xs">
          <th />
          <th className="text-right font-semibold">as it is</th>
          <th className="text-right font-semibold">solid</th>
        </tr>
      </thead>
      <tbody>
        {rows.map(([name, now, whole]) => (
          <tr key={name} className="line border-t">
            <th className="py-1 text-left font-normal">{name}</th>
            <td className="text-right font-semibold">{now}</td>
            <td className="text-right">{whole}</td>
          </tr>
        ))}
      </tbody>
    </table>
  );
}

const hollow: StepUi = {
  name: "hollow",
  Below,
  hint: "Take up the section (Y) to look inside.",
};

export default hollow;
