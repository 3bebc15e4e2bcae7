import { useId } from "react";
import { goodOf, nodeOf } from "../../case/look";
import { takeUp, useHouseParts } from "../../shared/houseParts";
import { NumberField } from "../../shared/ui/NumberField";
import type { CardProps } from "../../stage";
import { useBench } from "../../store/bench";
import { changePart, partPieces, partsOn, useMovedPart } from "./houseParts";

/** Every house part on the bases: which body it is, how it is turned, which of its faces it stands on. */
export function HouseParts({ data, doings }: CardProps) {
  const id = useId();
  const moved = useMovedPart();
  const { take, tool } = useBench();
  const rows = data.pieces
    .filter((p) => p.jaw)
    .flatMap((jaw) => Object.entries(partsOn(data, jaw.id)).map(([key, entry]) => ({ jaw, key, entry })));
  const shelf = useHouseParts().data ?? [];
  if (rows.length === 0 && shelf.length === 0) return null;
  return (
    <section className="mt-3 text-[13px]" aria-label="House parts">
      <h3 className="dim text-xs font-semibold">House parts</h3>
      {shelf.length > 0 && (
        <select
          aria-label="Put a house part on a base"
          className="select select-xs mt-1 w-full"
          value=""
          onChange={async (e) => {
            const part = shelf.find((p) => p.id === Number(e.target.value));
            if (!part || !(await takeUp(part, data.number))) return;
            useMovedPart.setState({ piece: "", entry: "", next: part.sha256 });
            if (tool?.id !== "attach") take({ id: "attach", at: "articulate" });
          }}
        >
          <option value="" disabled>
            Put one on a base …
          </option>
          {shelf.map((part) => (
            <option key={part.id} value={part.id}>
              {part.name}
            </option>
          ))}
        </select>
      )}
      <ul>
        {rows.map(({ jaw, key, entry }) => {
          const made = goodOf(data, "attach", jaw.id)?.attached?.find((a) => a.entry === key);
          const faces = Math.max(made?.faces ?? 1, entry.face ?? 1);
          const file = data.pieces.find((p) => p.id === entry.scan)?.file ?? entry.scan;
          const working = !["done", "look"].includes(nodeOf(data, "attach", jaw.id)?.state ?? "");
          const placing = tool?.id === "attach" && moved.piece === jaw.id && moved.entry === key;
          return (
            <li key={`${jaw.id}-${key}`} className="line border-b py-1.5">
              <div className="flex items-center gap-2">
                <span className="min-w-0 flex-1 truncate" title={file}>
                  <b>{file}</b>
                  <span className="dim"> {made || working ? jaw.jaw : `${jaw.jaw}, cannot stand there`}</span>
                </span>
                <button
                  type="button"
                  className="font-semibold text-primary aria-pressed:underline"
                  aria-pressed={placing}
                  onClick={() => {
                    useMovedPart.setState(placing ? { piece: "", entry: "" } : { piece: jaw.id, entry: key });
                    if (placing || tool?.id !== "attach") take({ id: "attach", at: "articulate" });
                  }}
                >
                  Place
                </button>
                <button
                  type="button"
                  className="font-semibold text-primary"
                  onClick={() => doings.entry("attach", jaw.id, ["parts"], key, null)}
                >
                  Take off
                </button>
              </div>
              <div className="flex items-center gap-3 pt-1">
                <label className="flex items-center gap-1" htmlFor={`${id}${key}turn`}>
                  Turned
                  <NumberField
                    id={`${id}${key}turn`}
                    value={entry.turn_deg ?? 0}
                    unit="°"
                    optional={false}
                    narrow
                    least={-180}
                    most={180}
                    onSet={(v) => changePart(doings, jaw.id, key, { turn_deg: v ?? 0 })}
                  />
                </label>
                <label className="flex items-center gap-1" htmlFor={`${id}${key}face`}>
                  Face
                  <select
                    id={`${id}${key}face`}
                    title="The flat face it stands on; the largest is the first"
                    className="select select-xs w-16"
                    value={entry.face ?? 1}
                    onChange={(e) => changePart(doings, jaw.id, key, { face: Number(e.target.value) })}
                  >
                    {Array.from({ length: faces }, (_, k) => k + 1).map((face) => (
                      <option key={face} value={face}>
                        {face}
                      </option>
                    ))}
                  </select>
                </label>
                {made && <span className="dim">{made.face_mm2.toFixed(0)} mm²</span>}
              </div>
            </li>
          );
        })}
      </ul>
      {rows.length > 0 && partPieces(data).length === 0 && (
        <p className="dim">No scan of this case is called a house part any more.</p>
      )}
    </section>
  );
}
