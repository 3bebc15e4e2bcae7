import { useState } from "react";
import { detailOf } from "../../case/look";
import { foundOf } from "../../case/told";
import { useNames } from "../../shared/toothNames";
import type { CardProps } from "../../stage";
import { useBench } from "../../store/bench";

const KINDS = { none: "no tooth", together: "one tooth", apart: "two teeth" } as const;

/** The teeth of a jaw: how many, how wide beside the average, how sure; and what was said by hand. */
export function TeethCard({ data, node, view, doings }: CardProps) {
  const [open, setOpen] = useState(false);
  const names = useNames();
  const showNumbers = useBench((s) => s.showNumbers);
  const piece = node?.piece;
  const teeth = piece ? foundOf(data, piece) : null;
  const said = piece ? detailOf(data, "teeth", piece)?.settings : undefined;
  if (!piece || !teeth) return null;
  return (
    <section aria-label="Teeth" className="line mb-2 border-b pb-2 text-[13px]">
      <div className="flex items-center gap-2">
        <button
          type="button"
          className="flex-1 text-left font-semibold"
          aria-expanded={open}
          onClick={() => setOpen(!open)}
        >
          {open ? "▾" : "▸"} {teeth.length} teeth
        </button>
        <label className="flex items-center gap-1.5 text-xs">
          <input
            type="checkbox"
            className="checkbox checkbox-xs"
            checked={view.numbers}
            onChange={(e) => showNumbers(e.target.checked)}
          />
          numbers
        </label>
      </div>
      {open && (
        <table className="mt-1 w-full tabular-nums">
          <thead className="dim text-left text-xs">
            <tr>
              <th className="font-normal">tooth</th>
              <th className="text-right font-normal">wide</th>
              <th className="text-right font-normal">usual</th>
              <th className="text-right font-normal">sure</th>
            </tr>
          </thead>
          <tbody>
            {teeth.map((t) => (
              <tr key={t.fdi} className="line border-t">
                <td className="font-semibold">{names(t.fdi)}</td>
                <td className="text-right">{t.mesiodistal_mm.toFixed(1)} mm</td>
                <td className="dim text-right">{t.usual_mm.toFixed(1)} mm</td>
                <td className={`text-right ${t.confidence < 0.6 ? "font-semibold text-warning" : "dim"}`}>
                  {t.by_hand ? "by hand" : `${Math.round(t.confidence * 100)} %`}
                </td>
              </tr>
            ))}
          </tbody>
        </table>
      )}
      <ByHand
        rows={[
          ...Object.entries(said?.said ?? {}).map(([id, word]) => ({
            id,
            at: "said",
            words: word.kind === "number" ? `number ${names(word.fdi ?? 0)}` : KINDS[word.kind],
          })),
          ...Object.entries(said?.swab ?? {}).map(([id, s]) => ({
            id,
            at: "swab",
            words: s.line ? "margin drawn" : `stroke, ${s.adds === false ? "gum" : "tooth"}`,
          })),
        ]}
        drop={(at, id) => doings.entry("teeth", piece, [at], id, null)}
      />
    </section>
  );
}

/** What a person said: each can be dropped. */
function ByHand({
  rows,
  drop,
}: {
  rows: { id: string; at: string; words: string }[];
  drop: (at: string, id: string) => void;
}) {
  if (rows.length === 0) return null;
  return (
    <ul aria-label="Teeth by hand" className="mt-1">
      {rows.map(({ id, at, words }) => (
        <li key={at + id} className="line flex items-center gap-2 border-t py-0.5">
          <span className="flex-1">By hand: {words}</span>
          <button
            type="button"
            className="font-semibold text-primary"
            aria-label={`Drop ${words}, ${id}`}
            onClick={() => drop(at, id)}
          >
            Drop
          </button>
        </li>
      ))}
    </ul>
  );
}
