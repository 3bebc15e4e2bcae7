import { useId, useState } from "react";
import { detailOf, pieceOf } from "../../case/look";
import { NumberField } from "../../shared/ui/NumberField";
import type { CardProps } from "../../stage";
import { useBench } from "../../store/bench";
import { add, byHand, change, entryOf, labelsOf } from "./labels";
import { usePicked } from "./picked";

const KINDS = { text: "Text", code: "QR code", mark: "House mark" } as const;

/** The labels of a body: each is placed, turned, made as tall as wanted, or goes back to where it finds its place by itself. */
export function LabelList({ data, node, doings, view }: CardProps) {
  const piece = node && pieceOf(data, node.piece);
  if (!piece) return null;
  const entries = byHand(data, piece.id);
  // Without a mark chosen from the house's shelf there is none to add.
  const marked = (detailOf(data, "label", piece.id)?.settings.mark ?? "none") !== "none";
  const standing = labelsOf(data, piece.id);
  const homeless = Object.keys(entries).filter((id) => !entries[id]?.name && !standing.some((l) => l.name === id));
  const names = [...standing.map((l) => l.name), ...homeless];
  if (names.length === 0) return null;
  return (
    <section className="mt-3 text-[13px]" aria-label="Labels">
      <ul>
        {names.map((name) => {
          const id = entryOf(data, piece.id, name);
          const entry = entries[id];
          const label = standing.find((l) => l.name === name);
          const added = id === name;
          return (
            <li key={name} className="line border-b py-1.5">
              <div className="flex items-center gap-2">
                <span className="min-w-0 flex-1 truncate" title={label?.text}>
                  <b>{KINDS[label?.kind ?? entry?.kind ?? "text"]}</b>
                  <span className="dim">
                    {label ? ` · ${label.tall_mm.toFixed(1)} mm, ${label.where}` : " · no place yet"}
                  </span>
                </span>
                <PlaceKey piece={piece.id} name={name} at={view.step} />
                {id && !added && (
                  <button
                    type="button"
                    className="font-semibold text-primary"
                    onClick={() => doings.entry("label", piece.id, ["labels"], id, null)}
                  >
                    By itself
                  </button>
                )}
                {added && (
                  <button
                    type="button"
                    className="font-semibold text-primary"
                    onClick={() => doings.entry("label", piece.id, ["labels"], id, null)}
                  >
                    Remove
                  </button>
                )}
              </div>
              {added && entry?.kind === "text" && (
                <Pattern value={entry.pattern} onSet={(pattern) => change(doings, piece.id, name, { pattern })} />
              )}
              <Sizes
                turn={entry?.turn_deg ?? 0}
                tall={entry?.tall_mm ?? null}
                auto={label?.tall_mm.toFixed(1)}
                onSet={(values) => change(doings, piece.id, name, values)}
              />
            </li>
          );
        })}
      </ul>
      <div className="flex gap-3 py-1.5">
        <button type="button" className="font-semibold text-primary" onClick={() => add(doings, piece.id, "text")}>
          Add text
        </button>
        <button type="button" className="font-semibold text-primary" onClick={() => add(doings, piece.id, "code")}>
          Add a code
        </button>
        {marked && (
          <button type="button" className="font-semibold text-primary" onClick={() => add(doings, piece.id, "mark")}>
            Add the mark
          </button>
        )}
      </div>
    </section>
  );
}

/** Take this label up, to point to its place. */
function PlaceKey({ piece, name, at }: { piece: string; name: string; at: string }) {
  const picked = usePicked((s) => s.name === name && s.piece === piece);
  const held = useBench((s) => s.tool?.id === "place-label");
  const on = picked && held;
  return (
    <button
      type="button"
      aria-pressed={on}
      className={`font-semibold ${on ? "text-accent" : "text-primary"}`}
      onClick={() => {
        usePicked.setState({ piece, name });
        if (!held || on) useBench.getState().take({ id: "place-label", at });
      }}
    >
      {on ? "Press on the model" : "Place"}
    </button>
  );
}

function Pattern({ value, onSet }: { value: string; onSet: (value: string) => void }) {
  const [text, setText] = useState(value);
  return (
    <input
      aria-label="Text of this label"
      className="input input-sm my-1 w-full"
      maxLength={80}
      value={text}
      onChange={(e) => setText(e.target.value)}
      onBlur={() => text !== value && onSet(text)}
      onKeyDown={(e) => {
        if (e.key === "Enter") {
          e.stopPropagation();
          e.currentTarget.blur();
        }
      }}
    />
  );
}

interface SizesProps {
  turn: number;
  tall: number | null;
  auto?: string;
  onSet: (values: { turn_deg?: number; tall_mm?: number | null }) => void;
}

function Sizes({ turn, tall, auto, onSet }: SizesProps) {
  const id = useId();
  return (
    <div className="flex items-center gap-3 pt-1">
      <label className="flex items-center gap-1" htmlFor={`${id}t`}>
        Turned
        <NumberField
          id={`${id}t`}
          value={turn}
          unit="°"
          optional={false}
          narrow
          least={-180}
          most={180}
          onSet={(v) => onSet({ turn_deg: v ?? 0 })}
        />
      </label>
      <label className="flex items-center gap-1" htmlFor={`${id}h`}>
        Tall
        <NumberField
          id={`${id}h`}
          value={tall}
          unit="mm"
          optional
          narrow
          auto={auto}
          least={1}
          most={30}
          onSet={(v) => onSet({ tall_mm: v })}
        />
      </label>
    </div>
  );
}
