import { useQuery } from "@tanstack/react-query";
import { useEffect, useRef, useState } from "react";
import { client, ok, type ToothOut } from "../../shared/api/client";
import { type Notation, useNotation } from "../../shared/notation";

interface Props {
  value: string;
  disabled: boolean;
  onSet: (teeth: string) => void;
}

/** The chart as one looks at the patient: upper row above, the patient's right on the left. */
function rowsOf(chart: ToothOut[], milk: boolean): ToothOut[][] {
  const shown = chart.filter((t) => t.deciduous === milk);
  return [shown.filter((t) => t.jaw === "upper"), shown.filter((t) => t.jaw === "lower").reverse()];
}

const GIVEN_UP_MS = 4000;

/** Teeth worked on: a press toggles one, a pull (or Shift with the arrows) takes a range along the arch. */
export function TeethChart({ value, disabled, onSet }: Props) {
  const chart = useQuery({
    queryKey: ["teeth"],
    queryFn: () => ok(client.GET("/api/cases/teeth")),
    staleTime: Number.POSITIVE_INFINITY,
  });
  const { notation, speak } = useNotation();
  const [milk, setMilk] = useState(false);
  const [pull, setPull] = useState<{ from: number; to: number } | null>(null);
  const focus = useRef<Map<number, HTMLButtonElement>>(new Map());
  // What was said and has not come back yet: the next press goes on from that.
  const [own, setOwn] = useState<string | null>(null);
  useEffect(() => setOwn((said) => (said === value ? null : said)), [value]);
  useEffect(() => {
    // It was not taken, or somebody else was at it: what the case says counts again.
    const late = own === null ? undefined : setTimeout(() => setOwn(null), GIVEN_UP_MS);
    return () => clearTimeout(late);
  }, [own]);
  const chosen = new Set((own ?? value).split(" ").filter(Boolean).map(Number));
  const rows = rowsOf(chart.data ?? [], milk);
  const between = (a: number, b: number): number[] => {
    for (const row of rows) {
      const i = row.findIndex((t) => t.fdi === a);
      const j = row.findIndex((t) => t.fdi === b);
      if (i >= 0 && j >= 0) return row.slice(Math.min(i, j), Math.max(i, j) + 1).map((t) => t.fdi);
    }
    return [b];
  };
  const say = (set: Set<number>) => {
    // In the order of the chart, as it comes back.
    const order = (chart.data ?? []).map((t) => t.fdi).filter((fdi) => set.has(fdi));
    setOwn(order.join(" "));
    onSet(order.join(" "));
  };
  function done() {
    if (!pull) return;
    const next = new Set(chosen);
    const swept = between(pull.from, pull.to);
    const add = !chosen.has(pull.from);
    for (const fdi of swept) add ? next.add(fdi) : next.delete(fdi);
    setPull(null);
    say(next);
  }
  function key(event: React.KeyboardEvent, row: number, at: number) {
    const to = { ArrowLeft: [row, at - 1], ArrowRight: [row, at + 1], ArrowUp: [0, at], ArrowDown: [1, at] }[event.key];
    if (!to) return;
    event.preventDefault();
    event.stopPropagation();
    const next = rows[to[0] ?? 0]?.[to[1] ?? 0];
    const here = rows[row]?.[at];
    if (!next || !here) return;
    focus.current.get(next.fdi)?.focus();
    if (event.shiftKey && next.jaw === here.jaw) say(new Set([...chosen, here.fdi, next.fdi]));
  }
  const swept = new Set(pull ? between(pull.from, pull.to) : []);
  const on = (fdi: number) => (pull && swept.has(fdi) ? !chosen.has(pull.from) : chosen.has(fdi));
  return (
    <fieldset className="mb-3" disabled={disabled}>
      <legend className="mb-1 flex w-full items-center justify-between">
        <span className="font-semibold">Teeth</span>
        <span className="flex gap-1 text-xs">
          <select
            aria-label="Notation"
            className="line rounded border bg-base-100 px-1"
            value={notation}
            onChange={(e) => speak(e.target.value as Notation)}
          >
            <option value="fdi">FDI</option>
            <option value="universal">Universal</option>
            <option value="palmer">Palmer</option>
          </select>
          <button
            type="button"
            aria-pressed={milk}
            onClick={() => setMilk(!milk)}
            className="line rounded border px-1.5"
          >
            milk
          </button>
        </span>
      </legend>
      {rows.map((row, r) => (
        <div key={row[0]?.fdi ?? r} className={`flex ${r === 0 ? "line border-b pb-0.5" : "pt-0.5"}`}>
          {row.map((t, i) => (
            <button
              key={t.fdi}
              type="button"
              ref={(el) => {
                if (el) focus.current.set(t.fdi, el);
              }}
              aria-pressed={chosen.has(t.fdi)}
              aria-label={`Tooth ${t[notation]}`}
              tabIndex={r === 0 && i === 0 ? 0 : -1}
              onPointerDown={(e) => {
                (e.target as Element).releasePointerCapture?.(e.pointerId);
                setPull({ from: t.fdi, to: t.fdi });
              }}
              onPointerEnter={() => pull && setPull({ ...pull, to: t.fdi })}
              onPointerUp={done}
              onKeyDown={(e) => key(e, r, i)}
              onClick={(e) => {
                // A pointer is done already; this is Space or Enter.
                if (e.detail === 0) {
                  const next = new Set(chosen);
                  if (!next.delete(t.fdi)) next.add(t.fdi);
                  say(next);
                }
              }}
              className={`h-8 min-w-0 flex-1 text-center text-[10px] leading-none select-none ${row.length / 2 === i ? "border-l border-[var(--dim)]" : ""} ${on(t.fdi) ? "bg-primary font-bold text-primary-content underline" : "hover:bg-secondary"}`}
            >
              {t[notation]}
            </button>
          ))}
        </div>
      ))}
    </fieldset>
  );
}
