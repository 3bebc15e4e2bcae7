import { isOpen } from "../../case/bays";
import type { Print } from "../../shared/api/client";

export interface Stretch {
  print: Print;
  /** Milliseconds since 1970. */
  from: number;
  to: number;
  /** As it was, as it is expected to go on, or as it is planned. */
  kind: "was" | "goes" | "waits";
}

export interface Day {
  from: number;
  to: number;
  stretches: Stretch[];
  /** When all that is sent will be printed; null where nothing is, or it is not known how long that takes. */
  free: number | null;
}

const HOUR = 3_600_000;

/** One printer's day, from midnight to midnight or as long as what is sent to it takes: what it printed, prints, and will print. */
export function dayOf(prints: Print[], now: number): Day {
  const midnight = new Date(now).setHours(0, 0, 0, 0);
  const stretches: Stretch[] = [];
  for (const print of prints) {
    if (!print.began || !print.ended) continue;
    const to = Date.parse(print.ended);
    if (to > midnight) stretches.push({ print, from: Math.max(Date.parse(print.began), midnight), to, kind: "was" });
  }
  // The printer takes them in the order of their numbers; what it has begun comes first.
  const open = prints.filter(isOpen).sort((a, b) => Number(b.began !== null) - Number(a.began !== null) || a.id - b.id);
  let at = now;
  let known = open.length > 0;
  for (const print of open) {
    const left = print.began ? print.seconds_left : print.takes_s;
    if (print.began) stretches.push({ print, from: Math.max(Date.parse(print.began), midnight), to: now, kind: "was" });
    if (left === null) {
      known = false;
      continue;
    }
    stretches.push({ print, from: at, to: at + 1000 * left, kind: print.began ? "goes" : "waits" });
    at += 1000 * left;
  }
  const last = new Date(midnight);
  last.setDate(last.getDate() + 1);
  const to = Math.max(last.getTime(), Math.ceil(at / HOUR) * HOUR);
  return { from: midnight, to, stretches, free: known ? at : null };
}

export function clock(at: number, now: number): string {
  const when = new Date(at);
  const words = when.toLocaleTimeString("en-GB", { hour: "2-digit", minute: "2-digit" });
  if (when.toDateString() === new Date(now).toDateString()) return words;
  return `${when.toLocaleDateString("en-GB", { weekday: "short" })} ${words}`;
}
