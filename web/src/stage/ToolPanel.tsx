import type { ReactNode } from "react";

/** What there is to choose for the tool in the hand: in a corner of the stage. */
export function ToolPanel({ name, children }: { name: string; children: ReactNode }) {
  return (
    <section
      aria-label={name}
      className="line pointer-events-auto absolute right-3 bottom-28 z-10 flex w-60 will-change-transform flex-col gap-1.5 rounded-lg border bg-base-100 px-3 py-2 text-[13px] shadow-sm"
    >
      {children}
    </section>
  );
}

/** One of a few: each a button. */
export function Choice<T extends string>({
  label,
  value,
  of,
  onChoose,
}: {
  label: string;
  value: T;
  of: readonly { value: T; words: string }[];
  onChoose: (value: T) => void;
}) {
  return (
    <fieldset className="flex gap-1" aria-label={label}>
      {of.map((one) => (
        <button
          key={one.value}
          type="button"
          aria-pressed={one.value === value}
          className={`line flex-1 rounded border px-1 py-0.5 font-semibold ${
            one.value === value ? "bg-neutral text-neutral-content" : "hover:bg-secondary"
          }`}
          onClick={() => onChoose(one.value)}
        >
          {one.words}
        </button>
      ))}
    </fieldset>
  );
}

/** A size on a slide, with its unit. */
export function Slide({
  label,
  value,
  unit,
  least,
  most,
  step,
  onSlide,
}: {
  label: string;
  value: number;
  unit: string;
  least: number;
  most: number;
  step: number;
  onSlide: (value: number) => void;
}) {
  return (
    <label className="flex items-center gap-2">
      <span className="w-16">{label}</span>
      <input
        type="range"
        className="range range-xs min-w-0 flex-1"
        min={least}
        max={most}
        step={step}
        value={value}
        onChange={(e) => onSlide(+e.target.value)}
      />
      <span className="w-14 text-right tabular-nums">
        {value} {unit}
      </span>
    </label>
  );
}
