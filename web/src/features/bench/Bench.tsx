import { useQuery } from "@tanstack/react-query";
import { Redo2, Undo2 } from "lucide-react";
import { useEffect } from "react";
import { Link, useNavigate, useParams } from "react-router";
import { openDoubts } from "../../case/doubts";
import { asks } from "../../case/look";
import { stateOf } from "../../case/states";
import { type Doings, useCase, useDoings, useOthers } from "../../case/useCase";
import { type CaseOut, client, ok, type StepOut } from "../../shared/api/client";
import { day } from "../../shared/format";
import { Command } from "../../shared/ui/Command";
import { DropHere } from "../../shared/ui/DropHere";
import { TopBar } from "../../shared/ui/TopBar";
import { Stage } from "../../stage";
import { uiOf } from "../../steps";
import { useBench } from "../../store/bench";
import { leave } from "../../store/hand";
import { say } from "../../store/notices";
import { BenchKeys, useRawKey } from "./BenchKeys";
import { Details, History } from "./Details";
import { keepLeft, leftAt } from "./leftAt";
import { Pieces } from "./Pieces";
import { RunSheet } from "./RunSheet";
import { StepCard } from "./StepCard";
import { Tools, toolInHand, useTools } from "./Tools";
import { useWanted } from "./useWanted";

/** One case: pieces, stage, card, run sheet. */
export function Bench() {
  const { number = "" } = useParams();
  const step = useBench((s) => s.step);
  const found = useCase(number, step);
  const steps = useQuery({
    queryKey: ["steps"],
    queryFn: () => ok(client.GET("/api/cases/steps")),
    staleTime: 600_000,
  });
  const doings = useDoings(number, found.data, found.keep);
  const reset = useBench((s) => s.reset);
  // biome-ignore lint/correctness/useExhaustiveDependencies: another case starts fresh
  useEffect(() => reset, [number, reset]);
  if (found.isError && !found.data)
    return (
      <div className="flex h-full flex-col">
        <TopBar />
        <p role="alert" className="p-8 text-lg">
          ▲ {found.error.message}{" "}
          <Link to="/" className="font-semibold text-primary">
            Back to the rack
          </Link>
        </p>
      </div>
    );
  if (!found.data || !steps.data) return <p className="dim p-8">The case comes onto the bench …</p>;
  return <Opened data={found.data} steps={steps.data} doings={doings} />;
}

/** The first step that waits for a person: there the bench opens. */
function firstOpen(data: CaseOut, steps: StepOut[]): string {
  return steps.find((s) => s.on_demand || asks(data, s))?.name ?? "hand-off";
}

function Opened({ data, steps, doings }: { data: CaseOut; steps: StepOut[]; doings: Doings }) {
  const { step: name, open, piece, act, panel, tool } = useBench();
  const navigate = useNavigate();
  const others = useOthers(data.number);
  const raw = useRawKey();
  const tools = useTools();
  useWanted(data);
  const step = steps.find((s) => s.name === name) ?? steps[0];

  // biome-ignore lint/correctness/useExhaustiveDependencies: where the bench opens is decided once a case
  useEffect(() => {
    const left = useBench.getState().wanted?.step ?? leftAt(data.number);
    open(steps.some((s) => s.name === left) ? left : firstOpen(data, steps));
  }, [data.number]);
  useEffect(() => keepLeft(data.number, name), [data.number, name]);

  useEffect(() => {
    const fits = data.pieces.some((p) => p.id === piece);
    const first = data.pieces.find((p) => p.jaw === "upper") ?? data.pieces.find((p) => p.jaw) ?? data.pieces[0];
    if (!fits && first) act(first.id);
  }, [data.pieces, piece, act]);

  if (!step) return null;
  return (
    <DropHere
      url={`/api/cases/${data.number}/drop`}
      says={`Drop the scans into case ${data.number}`}
      onDone={(dropped) => dropped.accepted.length && say(`Added: ${dropped.accepted.join(", ")}.`)}
    >
      {(choose, share) => (
        <div className="flex h-full flex-col">
          <TopBar rooms={false}>
            <CaseLine data={data} doings={doings} others={others} />
          </TopBar>
          {data.closed && (
            <p className="flex items-center gap-3 bg-neutral px-4 py-1.5 font-semibold text-neutral-content">
              This case is closed and kept until {day(data.keep_until)}.
              <button type="button" className="underline" onClick={doings.reopen}>
                Open it again
              </button>
            </p>
          )}
          {data.trouble && (
            <p
              role="alert"
              className="flex items-center gap-3 bg-[var(--look-ground)] px-4 py-1.5 font-semibold text-warning"
            >
              ▲ {data.trouble}
              <button type="button" className="underline" onClick={() => doings.hold(false)}>
                Go on now
              </button>
            </p>
          )}
          <div className="flex min-h-0 flex-1">
            <Pieces data={data} doings={doings} choose={choose} share={share} />
            <main className="relative min-w-0 flex-1">
              <Stage data={data} ui={uiOf(step.name)} tool={toolInHand(tools, tool)} doings={doings} />
              <Tools data={data} tools={tools} ui={uiOf(step.name)} doings={doings} raw={raw} />
            </main>
            <aside aria-label="Card" className="line flex w-[304px] shrink-0 flex-col border-l bg-base-100">
              {panel === "details" && <Details data={data} doings={doings} />}
              {panel === "history" && <History data={data} />}
              {panel === "step" && <StepCard data={data} steps={steps} step={step} doings={doings} />}
            </aside>
          </div>
          <RunSheet
            data={data}
            steps={steps}
            doings={doings}
            runOn={() => leave(() => runOn(data, steps, doings, open))}
          />
          <BenchKeys data={data} doings={doings} choose={choose} />
          <Command
            id="run-on"
            title="Accept all up to the first doubt"
            keys="p"
            group="Case"
            run={() => leave(() => runOn(data, steps, doings, open))}
          />
          <Command
            id="close"
            title="Back to the rack"
            keys="shift+escape"
            group="Case"
            run={() => leave(() => navigate("/"))}
          />
        </div>
      )}
    </DropHere>
  );
}

/** Accept step by step until one has a doubt; there the bench opens. */
function runOn(data: CaseOut, steps: StepOut[], doings: Doings, open: (step: string) => void) {
  const plain: string[] = [];
  let stop = "hand-off";
  for (const step of steps) {
    if (step.on_demand) break;
    if (!asks(data, step)) continue;
    const doubt = openDoubts(data, step.name)[0];
    const state = stateOf(data, step.name);
    if (doubt || (state !== "done" && state !== "look")) {
      stop = step.name;
      say(`Stopped at ${step.title}: ${doubt?.flag.message ?? "it is not worked out yet."}`, "look");
      break;
    }
    plain.push(step.name);
  }
  if (plain.length) doings.accept(plain, true, () => open(stop));
  else open(stop);
}

function CaseLine({ data, doings, others }: { data: CaseOut; doings: Doings; others: string[] }) {
  const { panel, turnTo } = useBench();
  const { patient, practice, purpose, due } = data.details;
  const words = [practice, purpose].filter(Boolean).join(" · ");
  return (
    <>
      <button
        type="button"
        aria-pressed={panel === "details"}
        onClick={() => turnTo("details")}
        title="Patient, practice, purpose, notes (D)"
        className={`line flex min-w-0 items-center gap-3 rounded-lg border px-3 py-1 text-left ${panel === "details" ? "bg-secondary" : "bg-base-200"}`}
      >
        <b>{data.number}</b>
        <span className="dim truncate">{[patient, words].filter(Boolean).join(" · ") || "No details yet"}</span>
        {due && <span className="dim whitespace-nowrap">due {day(due)}</span>}
      </button>
      <div className="join">
        <IconButton
          label={data.undo ? `Take back: ${data.undo}` : "Nothing to take back"}
          keys="Ctrl+Z"
          off={!data.undo}
          run={doings.undo}
        >
          <Undo2 size={16} />
        </IconButton>
        <IconButton
          label={data.redo ? `Do again: ${data.redo}` : "Nothing to do again"}
          keys="Ctrl+Shift+Z"
          off={!data.redo}
          run={doings.redo}
        >
          <Redo2 size={16} />
        </IconButton>
      </div>
      <button
        type="button"
        aria-pressed={panel === "history"}
        onClick={() => turnTo("history")}
        title="Who changed what (H)"
        className={`line rounded-lg border px-3 py-1 font-semibold ${panel === "history" ? "bg-secondary" : ""}`}
      >
        History
      </button>
      {others.length > 0 && (
        <span className="truncate rounded-full bg-[var(--look-ground)] px-3 py-1 font-semibold text-warning">
          {others.join(", ")} {others.length > 1 ? "have" : "has"} it open too
        </span>
      )}
    </>
  );
}

interface IconProps {
  label: string;
  keys: string;
  off: boolean;
  run: () => void;
  children: React.ReactNode;
}

function IconButton({ label, keys, off, run, children }: IconProps) {
  return (
    <button
      type="button"
      className="btn btn-sm join-item"
      aria-label={label}
      title={`${label} (${keys})`}
      disabled={off}
      onClick={run}
    >
      {children}
    </button>
  );
}
