import { Pause, Play } from "lucide-react";
import { asks, isAccepted } from "../../case/look";
import { figureOf, shareOf, stateOf } from "../../case/states";
import type { Doings } from "../../case/useCase";
import type { CaseOut, StepOut } from "../../shared/api/client";
import { Command } from "../../shared/ui/Command";
import { STATE_WORDS, StateMark } from "../../shared/ui/StateMark";
import { useBench } from "../../store/bench";
import { leave } from "../../store/hand";

interface Props {
  data: CaseOut;
  steps: StepOut[];
  doings: Doings;
  runOn: () => void;
}

/** The case's steps from Intake to Hand-off, each with its state in shape and word and its one figure. */
export function RunSheet({ data, steps, doings, runOn }: Props) {
  const { step: open, open: goTo } = useBench();
  const left = steps.some((s) => asks(data, s));
  return (
    <nav aria-label="Run sheet" className="line flex h-[92px] shrink-0 border-t bg-base-100">
      <ol className="flex min-w-0 flex-1">
        {steps.map((step) => {
          const state = stateOf(data, step.name);
          const here = step.name === open;
          const accepted = isAccepted(data, step.name);
          const changed = (data.accepted[step.name]?.length ?? 0) > 0;
          return (
            <li key={step.name} className={`min-w-0 flex-1 ${here ? "rounded-t-lg bg-secondary" : ""}`}>
              <Command
                id={`step-${step.name}`}
                title={`Open ${step.title}`}
                keys={`alt+${step.number % 10}`}
                group="Steps"
                run={() => leave(() => goTo(step.name))}
              />
              <button
                type="button"
                aria-current={here ? "step" : undefined}
                aria-label={`${step.title}: ${STATE_WORDS[state]}${accepted ? ", accepted" : changed ? ", changed since it was accepted" : ""}`}
                title={`${step.about} (Alt+${step.number % 10})`}
                onClick={() => leave(() => goTo(step.name))}
                className="flex h-full w-full flex-col justify-center px-3 text-left"
              >
                <span className="truncate">
                  <span className="dim mr-1.5">{step.number}</span>
                  <b>{step.title}</b>
                  {accepted && (
                    <span className="ml-1 text-primary" title="Accepted">
                      ✓
                    </span>
                  )}
                  {changed && (
                    <span className="ml-1 text-warning" title="Changed since it was accepted">
                      ≠
                    </span>
                  )}
                </span>
                <span className="relative my-1 flex h-5 items-center">
                  <span
                    className={`absolute inset-x-0 top-1/2 h-0.5 ${state === "done" ? "bg-primary" : "bg-[var(--line)]"}`}
                  />
                  <span className="relative">
                    <StateMark state={state} share={shareOf(data, step.name)} size={18} />
                  </span>
                </span>
                <span
                  className={`truncate ${state === "look" || state === "failed" ? "font-semibold text-warning" : "dim"}`}
                >
                  {state === "done"
                    ? figureOf(data, step) || "done"
                    : [STATE_WORDS[state], figureOf(data, step)].filter(Boolean).join(" · ")}
                </span>
              </button>
            </li>
          );
        })}
      </ol>
      <Progress data={data} doings={doings} left={left} runOn={runOn} />
    </nav>
  );
}

function Progress({ data, doings, left, runOn }: { data: CaseOut; doings: Doings; left: boolean; runOn: () => void }) {
  const list = Object.values(data.working);
  const first = list[0];
  if (data.held)
    return (
      <div className="line flex w-44 shrink-0 flex-col justify-center gap-1 border-l px-3">
        <span className="font-semibold text-warning">Stopped by hand</span>
        <button type="button" className="btn btn-sm" onClick={() => doings.hold(false)}>
          <Play size={14} /> Go on
        </button>
      </div>
    );
  if (!first && data.queue)
    return (
      <div className="line flex w-44 shrink-0 flex-col justify-center gap-1 border-l px-3" aria-live="polite">
        <span className="font-semibold">Waits for its turn</span>
        <span className="dim text-[13px]" data-testid="queue">
          {data.queue}
        </span>
        <button type="button" className="btn btn-xs" onClick={() => doings.hold(true)}>
          <Pause size={12} /> Cancel
        </button>
      </div>
    );
  if (!first)
    return (
      <div className="line flex w-44 shrink-0 flex-col justify-center border-l px-3">
        <button
          type="button"
          className="btn h-auto min-h-0 py-2 leading-tight"
          disabled={!left}
          onClick={runOn}
          title="Accept step by step until one has a doubt (P)"
        >
          {left ? "Accept up to the first doubt" : "All accepted"} {left && <kbd className="key">P</kbd>}
        </button>
      </div>
    );
  return (
    <div className="line flex w-44 shrink-0 flex-col justify-center gap-1 border-l px-3">
      <span className="truncate" aria-live="polite">
        {first.what}
      </span>
      <progress
        className="progress progress-primary"
        value={Math.min(...list.map((w) => w.fraction))}
        max={1}
        aria-label={first.what}
      />
      <button type="button" className="btn btn-xs" onClick={() => doings.hold(true)}>
        <Pause size={12} /> Cancel
      </button>
    </div>
  );
}
