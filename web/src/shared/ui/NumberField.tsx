import { useEffect, useState } from "react";

interface Props {
  id: string;
  value: number | null;
  unit: string;
  optional: boolean;
  /** What stands there when the field is empty: the value the program chose. */
  auto?: string;
  least?: number | null;
  most?: number | null;
  whole?: boolean;
  disabled?: boolean;
  /** Where two stand in one row. */
  narrow?: boolean;
  onSet: (value: number | null) => void;
}

const trim = (value: number) => (Math.round(value * 1000) / 1000).toString();

/** A number with its unit. Arrow keys step by 0.1 (with Shift 1), degrees by 1 (with Shift 10); Enter or leaving sets it. */
export function NumberField({ id, value, unit, optional, auto, least, most, whole, disabled, narrow, onSet }: Props) {
  const [text, setText] = useState(value === null ? "" : trim(value));
  const [wrong, setWrong] = useState("");
  useEffect(() => {
    setText(value === null ? "" : trim(value));
    setWrong("");
  }, [value]);

  function set(raw: string) {
    const clean = raw.trim().replace(",", ".");
    if (clean === "" && optional) {
      if (value !== null) onSet(null);
      return;
    }
    const next = Number(clean);
    if (clean === "" || !Number.isFinite(next)) return setWrong("This is not a number.");
    if (least != null && next < least) return setWrong(`At least ${least} ${unit}.`);
    if (most != null && next > most) return setWrong(`At most ${most} ${unit}.`);
    setWrong("");
    if (next !== value) onSet(whole ? Math.round(next) : next);
  }

  function step(up: boolean, large: boolean) {
    const size = unit === "°" || unit === "%" || whole ? (large ? 10 : 1) : large ? 1 : 0.1;
    const from = Number(text || auto || 0);
    let next = (Number.isFinite(from) ? from : 0) + (up ? size : -size);
    if (least != null) next = Math.max(next, least);
    if (most != null) next = Math.min(next, most);
    setText(trim(next));
    setWrong("");
  }

  return (
    <span className={`relative block shrink-0 ${narrow ? "w-[5.2rem]" : "w-[8.2rem]"}`}>
      <span className={`input input-sm flex w-full items-center gap-1 ${wrong ? "border-warning" : ""}`}>
        <input
          id={id}
          className="min-w-0 grow text-right"
          inputMode="decimal"
          disabled={disabled}
          value={text}
          placeholder={auto ?? ""}
          aria-invalid={wrong !== ""}
          onChange={(e) => setText(e.target.value)}
          onBlur={() => set(text)}
          onKeyDown={(e) => {
            if (e.key === "Enter") {
              // Leaving sets it; after that the keys are the bench's again.
              e.stopPropagation();
              e.currentTarget.blur();
            }
            if (e.key === "Escape") {
              setText(value === null ? "" : trim(value));
              setWrong("");
            }
            if (e.key === "ArrowUp" || e.key === "ArrowDown") {
              e.preventDefault();
              step(e.key === "ArrowUp", e.shiftKey);
            }
          }}
        />
        <span className="dim w-5 shrink-0 text-left">{unit}</span>
      </span>
      {wrong && (
        <span
          role="alert"
          className="absolute top-full right-0 z-10 rounded bg-[var(--look-ground)] px-1.5 text-xs text-warning"
        >
          {wrong}
        </span>
      )}
    </span>
  );
}
