import { useEffect, useState } from "react";
import { printWords } from "../../case/bays";
import type { Print } from "../../shared/api/client";
import { clock, dayOf, type Stretch } from "./day";

const WIDE = 264;
const TALL = 12;
const HOUR = 3_600_000;
const EVERY_MS = 30_000;

/** A printer's day as a line: what it printed, what it prints, what waits, and the hour it is. */
export function DayLine({ prints, bay }: { prints: Print[]; bay: string }) {
  const [now, setNow] = useState(Date.now());
  useEffect(() => {
    const timer = setInterval(() => setNow(Date.now()), EVERY_MS);
    return () => clearInterval(timer);
  }, []);
  const day = dayOf(prints, now);
  const x = (at: number) => (WIDE * (at - day.from)) / (day.to - day.from);
  const quarters = Array.from(
    { length: Math.floor((day.to - day.from) / (6 * HOUR)) },
    (_, k) => day.from + k * 6 * HOUR,
  );
  const words =
    day.free === null ? (day.stretches.length === 0 ? "nothing today" : "") : `free from ${clock(day.free, now)}`;
  return (
    <span className="flex items-center gap-2 pt-1" data-testid={`day-${bay}`}>
      <svg viewBox={`0 0 ${WIDE} ${TALL}`} className="h-3 min-w-0 flex-1" preserveAspectRatio="none">
        <title>{`${clock(day.from, day.from)} to ${clock(day.to, day.from)}`}</title>
        <rect x="0" y="3" width={WIDE} height="6" rx="3" fill="var(--color-base-300)" />
        {quarters.map((at) => (
          <path key={at} d={`M${x(at)} 1v10`} stroke="var(--color-base-100)" strokeWidth="1" />
        ))}
        {day.stretches.map((s) => (
          <rect
            key={`${s.print.id} ${s.kind}`}
            x={x(s.from)}
            y={s.kind === "waits" ? 4 : 2}
            width={Math.max(x(s.to) - x(s.from), 1.5)}
            height={s.kind === "waits" ? 4 : 8}
            fill={inkOf(s)}
            opacity={s.kind === "was" ? 1 : 0.5}
          >
            <title>{saidOf(s, now)}</title>
          </rect>
        ))}
        <path d={`M${x(now)} 0v12`} stroke="var(--color-base-content)" strokeWidth="1.5" />
      </svg>
      <span className="dim text-xs whitespace-nowrap">{words}</span>
    </span>
  );
}

function inkOf({ print }: Stretch): string {
  return print.state === "failed" || print.state === "stopped" || print.state === "cancelled"
    ? "var(--color-warning)"
    : "var(--color-primary)";
}

function saidOf({ print, from, to, kind }: Stretch, now: number): string {
  const span = `${clock(from, now)} to ${clock(to, now)}`;
  return kind === "was" ? `${print.name}: ${printWords(print)}, ${span}` : `${print.name}: ${span}, as it is planned`;
}
