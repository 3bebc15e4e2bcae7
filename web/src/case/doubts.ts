import type { CaseOut, DoubtOut, FixOut, StepOut } from "../shared/api/client";
import { asks } from "./look";
import { stateOf } from "./states";
import type { Doings } from "./useCase";

/** The doubts of a case, or of one step, that nobody has said yes to. */
export function openDoubts(data: CaseOut, step?: string): DoubtOut[] {
  return data.doubts.filter((d) => !d.at && (step === undefined || d.step === step));
}

/** What waits for a yes, and how far one press goes: up to the first step with a doubt. */
export function waitingOf(data: CaseOut, steps: StepOut[]) {
  const waiting = steps.filter((s) => asks(data, s));
  const at = waiting.findIndex((s) => openDoubts(data, s.name).length > 0 || !isThere(data, s.name));
  return { waiting, plain: at < 0 ? waiting : waiting.slice(0, at), first: at < 0 ? null : (waiting[at] ?? null) };
}

const isThere = (data: CaseOut, step: string) => ["done", "look", "failed", "off"].includes(stateOf(data, step));

/** Which scan or body a doubt is about. */
export const whose = (doubt: { title: string; jaw: string | null }) =>
  doubt.jaw ? `${doubt.title}, ${doubt.jaw}` : doubt.title;

/** Press a Fix: all its settings in one change. */
export function mend(doings: Doings, fix: FixOut): void {
  if (fix.at) doings.entry(fix.step, fix.piece, [fix.at], fix.id, fix.values);
  else doings.set(fix.step, fix.piece, fix.values, fix.more);
}
