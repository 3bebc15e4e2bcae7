import { useQuery } from "@tanstack/react-query";
import { Move, Play, Redo2, Rotate3d, Ruler, Slice, Triangle, Undo2 } from "lucide-react";
import { useEffect } from "react";
import { Link, useNavigate, useParams } from "react-router";
import { TopBar } from "../../app/TopBar";
import { type CaseOut, client, ok, type StepOut } from "../../shared/api/client";
import { day } from "../../shared/format";
import { Command } from "../../shared/ui/Command";
import { DropHere } from "../../shared/ui/DropHere";
import { ToolButton } from "../../shared/ui/ToolButton";
import { useBench } from "../../store/bench";
import { say } from "../../store/notices";
import { nodeOf, Stage } from "../stage";
import { BenchKeys, useRawKey } from "./BenchKeys";
import { Details, History } from "./Details";
import { setMarks } from "./MarkList";
import { Pieces } from "./Pieces";
import { RunSheet } from "./RunSheet";
import { StepCard } from "./StepCard";
import { flagsOf, nodesOf, stateOf } from "./states";
import { type Doings, useCase, useDoings, useOthers } from "./useCase";
import { useNudge } from "./useNudge";

/** One case: pieces, stage, card, run sheet. */
export function Bench() {
  const { number = "" } = useParams();
  const found = useCase(number);
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
  return steps.find((s) => s.on_demand || !data.accepted.includes(s.name))?.name ?? "hand-off";
}

function Opened({ data, steps, doings }: { data: CaseOut; steps: StepOut[]; doings: Doings }) {
  const { step: name, open, piece, act, panel } = useBench();
  const navigate = useNavigate();
  const others = useOthers(data.number);
  const raw = useRawKey();
  useNudge(data, doings);
  const step = steps.find((s) => s.name === name) ?? steps[0];

  // biome-ignore lint/correctness/useExhaustiveDependencies: where the bench opens is decided once a case
  useEffect(() => {
    open(firstOpen(data, steps));
  }, [data.number]);

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
              <Stage
                data={data}
                step={step.name}
                onSaw={(id, which, mm) => doings.set("trim", id, { [`${which}_mm`]: mm })}
                onPlane={(on, [front, left, right]) => doings.set("level", "*", { marks: { on, front, left, right } })}
                onLevel={(values) => doings.set("level", "*", { ...values })}
                onSwab={(id, stroke) =>
                  doings.set("follow", id, {
                    swab: [...((nodeOf(data, "follow", id)?.settings.swab as []) ?? []), stroke],
                  })
                }
                onMarks={(id, pairs) => setMarks(data, doings, id, pairs)}
              />
              <Tools step={step.name} raw={raw} />
            </main>
            <aside aria-label="Card" className="line flex w-[304px] shrink-0 flex-col border-l bg-base-100">
              {panel === "details" && <Details data={data} doings={doings} />}
              {panel === "history" && <History data={data} />}
              {panel === "step" && <StepCard data={data} steps={steps} step={step} doings={doings} />}
            </aside>
          </div>
          <RunSheet data={data} steps={steps} doings={doings} runOn={() => runOn(data, steps, doings, open)} />
          <BenchKeys data={data} doings={doings} choose={choose} />
          <Command
            id="run-on"
            title="Accept all up to the first doubt"
            keys="p"
            group="Case"
            run={() => runOn(data, steps, doings, open)}
          />
          <Command id="close" title="Back to the rack" keys="shift+escape" group="Case" run={() => navigate("/")} />
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
    if (data.accepted.includes(step.name)) continue;
    const state = stateOf(data, step.name);
    if (state !== "done") {
      stop = step.name;
      const flag = nodesOf(data, step.name)
        .flatMap(flagsOf)
        .find((f) => f.severity !== "note");
      say(`Stopped at ${step.title}: ${flag?.message ?? "it is not worked out yet."}`, "look");
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

const HINTS: Record<string, string> = {
  gauge: "Press on two places of the surface. The straight distance between them is shown.",
  nudge:
    "Arrow keys move the lower, Page Up and Page Down lift and lower it: 0.01 mm. With Alt they tilt, roll and turn it: 0.1°. With Shift ten times that. Or type it on the card under More settings.",
  handle:
    "Pull a ball on the glass: each does one thing. Keys: up and down tilt, left and right roll, Page Up and Down turn, by 1°, with Shift 10°.",
  swab: "Brush on a scan that follows its jaw what has changed: it is left out of the fit. With Alt, what has not. The swab is 3 mm wide and reaches into undercuts.",
  saw: "Pull a saw on the model, or step it with the arrow keys: 0.1 mm, with Shift 1 mm. Hatched is what will go.",
};

/** What the three marks of Level ask for, one after the other. */
const PLANE_HINTS = [
  "Three marks on one jaw: press first between the incisal edges.",
  "Now on a cusp on the patient's left.",
  "Now on a cusp on the patient's right.",
];

function Tools({ step, raw }: { step: string; raw: boolean }) {
  const { tool, take, plane, play } = useBench();
  const hint = tool
    ? (HINTS[tool] ?? (tool === "plane" ? PLANE_HINTS[plane?.points.length ?? 0] : null))
    : raw
      ? "This is the scan as it came."
      : step === "trim"
        ? "Hatched is what was taken off."
        : null;
  return (
    <>
      <div className="absolute top-3 left-3 flex gap-2" role="toolbar" aria-label="Tools">
        <ToolButton
          label="Gauge"
          keys="g"
          icon={<Ruler size={15} />}
          on={tool === "gauge"}
          onClick={() => take("gauge")}
        />
        {step === "bite" && (
          <ToolButton
            label="Nudge"
            keys="m"
            icon={<Move size={15} />}
            on={tool === "nudge"}
            onClick={() => take("nudge")}
          />
        )}
        {step === "bite" && (
          <ToolButton label="In motion" keys="i" icon={<Play size={15} />} on={false} onClick={play} />
        )}
        {step === "level" && (
          <ToolButton
            label="Three marks"
            keys="t"
            icon={<Triangle size={15} />}
            on={tool === "plane"}
            onClick={() => take("plane")}
          />
        )}
        {step === "level" && (
          <ToolButton
            label="Axes"
            keys="x"
            icon={<Rotate3d size={15} />}
            on={tool === "handle"}
            onClick={() => take("handle")}
          />
        )}
        {step === "trim" && (
          <ToolButton label="Saw" keys="s" icon={<Slice size={15} />} on={tool === "saw"} onClick={() => take("saw")} />
        )}
      </div>
      {hint && (
        <p className="line pointer-events-none absolute bottom-4 left-64 max-w-80 rounded-lg border bg-base-100 px-3 py-2">
          {hint} {!tool && !raw && "Hold "}
          {!tool && !raw && <kbd className="key">R</kbd>}
          {!tool && !raw && " to see the raw scan."}
        </p>
      )}
    </>
  );
}
