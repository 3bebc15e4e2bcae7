import { useState } from "react";
import type { CaseOut, NodeOut, Reading, StepOut } from "../../shared/api/client";
import { capital } from "../../shared/format";
import { Command } from "../../shared/ui/Command";
import { ReadingRow } from "../../shared/ui/ReadingRow";
import { SettingsForm } from "../../shared/ui/SettingsForm";
import { STATE_WORDS, type StepState } from "../../shared/ui/StateMark";
import { useBench } from "../../store/bench";
import { sawsOf } from "../stage";
import { Found } from "./Found";
import { HandOff } from "./HandOff";
import { Stands } from "./Stands";
import { nodesOf, stateOf } from "./states";
import { CLEAR, type Doings } from "./useCase";

interface Props {
  data: CaseOut;
  steps: StepOut[];
  step: StepOut;
  doings: Doings;
}

/** The open step: what was found, the settings that matter, the readings, and the button that goes on. */
export function StepCard({ data, steps, step, doings }: Props) {
  const { piece: acting, act } = useBench();
  const nodes = nodesOf(data, step.name);
  const node = nodes.find((n) => n.piece === acting) ?? nodes[0];
  const state = stateOf(data, step.name);
  return (
    <>
      <header className="line flex items-baseline justify-between border-b px-4 pt-3 pb-2">
        <h2 className="text-lg font-bold">{step.title}</h2>
        <span className="dim text-xs">
          {STATE_WORDS[state]}
          {node?.seconds != null && ` · ${node.seconds.toFixed(1)} s`}, step {step.number} of 10
        </span>
      </header>
      {nodes.length > 1 && <Which data={data} nodes={nodes} node={node} act={act} />}
      <div className="min-h-0 flex-1 overflow-y-auto px-4 py-2">
        <Twin data={data} step={step} node={node} />
        <Found data={data} step={step} node={node} doings={doings} />
        {step.name === "level" && node?.settings.marks != null && (
          <p className="flex items-center justify-between py-1">
            Levelled by three marks
            <button
              type="button"
              className="font-semibold text-primary"
              onClick={() => doings.set("level", "*", { marks: CLEAR })}
            >
              Take them back
            </button>
          </p>
        )}
        {step.name === "bite" && <Stands data={data} doings={doings} />}
        {node && <Settings data={data} step={step} node={node} doings={doings} />}
        {step.name === "hand-off" && <HandOff data={data} />}
      </div>
      <Foot data={data} steps={steps} step={step} node={node} doings={doings} />
    </>
  );
}

/** Which scan the card speaks of: tabs for two or three, a list for more. */
function Which({
  data,
  nodes,
  node,
  act,
}: {
  data: CaseOut;
  nodes: NodeOut[];
  node: NodeOut | undefined;
  act: (piece: string) => void;
}) {
  const words = (n: NodeOut) => {
    const piece = data.pieces.find((p) => p.id === n.piece);
    const name = n.jaw ?? ([piece?.kind, piece?.side].filter(Boolean).join(", ") || n.piece);
    return `${capital(name)}${n.state === "look" ? " ▲" : n.state === "failed" ? " ✕" : ""}`;
  };
  if (nodes.length > 3)
    return (
      <label className="line flex items-center gap-2 border-b px-4 py-1.5">
        <span className="dim text-xs">Scan</span>
        <select
          aria-label="Which scan"
          className="select select-sm flex-1"
          value={node?.piece}
          onChange={(e) => act(e.target.value)}
        >
          {nodes.map((n) => (
            <option key={n.id} value={n.piece}>
              {words(n)} ·{" "}
              {data.pieces
                .find((p) => p.id === n.piece)
                ?.file.split("/")
                .at(-1)}
            </option>
          ))}
        </select>
      </label>
    );
  return (
    <div className="line flex gap-1 border-b px-4 py-1.5" role="tablist" aria-label="Which scan">
      {nodes.map((n) => (
        <button
          key={n.id}
          type="button"
          role="tab"
          aria-selected={n === node}
          onClick={() => act(n.piece)}
          className={`truncate rounded-lg px-2.5 py-1 font-semibold ${n === node ? "bg-secondary text-secondary-content" : "dim"}`}
        >
          {words(n)}
        </button>
      ))}
    </div>
  );
}

/** The same surface is here or in another case already. */
function Twin({ data, step, node }: { data: CaseOut; step: StepOut; node: NodeOut | undefined }) {
  const twin = step.name === "intake" ? data.pieces.find((p) => p.id === node?.piece)?.twin : "";
  return twin ? (
    <p className="rounded-lg bg-[var(--look-ground)] px-3 py-1.5 font-semibold text-warning">▲ {twin}</p>
  ) : null;
}

/** Most settings count for both jaws; those that do not are named. */
function forWhom(step: StepOut): string {
  const own = step.settings.filter((s) => s.per_jaw && s.type === "boolean").map((s) => s.label.toLowerCase());
  return own.length ? `For both jaws; each its own: ${own.join(", ")}.` : "For both jaws.";
}

function Settings({ data, step, node, doings }: { data: CaseOut; step: StepOut; node: NodeOut; doings: Doings }) {
  const alone = step.name === "intake";
  const of = (key: string) => step.settings.find((s) => s.key === key);
  const where = (key: string) => (alone || of(key)?.per_jaw ? node.piece : "*");
  // Parts of a step have settings of their own on its card.
  const parts = data.nodes.filter((n) => n.part_of === step.name && n.piece === "*");
  const all = (which: "settings" | "own") => Object.assign({}, ...parts.map((n) => n[which]), node[which]);
  const saws = step.name === "trim" ? sawsOf(data, node.piece) : null;
  const auto = saws
    ? { bottom_mm: `auto ${saws.bottom.mm.toFixed(1)}`, back_mm: `auto ${saws.back.mm.toFixed(1)}` }
    : undefined;
  const jaws = step.scope === "piece" && !alone && nodesOf(data, step.name).length > 1;
  return (
    <section aria-label="Settings">
      {jaws && <p className="dim pt-1 pb-0.5 text-xs">{forWhom(step)}</p>}
      <SettingsForm
        settings={step.settings}
        values={all("settings")}
        own={all("own")}
        auto={auto}
        onSet={(key, value) => doings.set(of(key)?.step ?? step.name, where(key), { [key]: value })}
        onClear={(key) => doings.set(of(key)?.step ?? step.name, where(key), { [key]: CLEAR })}
      />
    </section>
  );
}

const FEW_READINGS = 4;

/** What was measured. The first few stand there, the rest opens. */
function Readings({ readings }: { readings: Reading[] }) {
  const [all, setAll] = useState(false);
  if (readings.length === 0) return null;
  const few = all || readings.length <= FEW_READINGS + 1 ? readings : readings.slice(0, FEW_READINGS);
  return (
    <dl aria-label="Readings" className="mb-2 text-[13px] leading-tight">
      {few.map((r) => (
        <ReadingRow key={r.name} of={r} />
      ))}
      {few.length < readings.length && (
        <button type="button" className="py-0.5 font-semibold text-primary" onClick={() => setAll(true)}>
          {readings.length - few.length} more readings
        </button>
      )}
    </dl>
  );
}

function Foot({ data, steps, step, node, doings }: Props & { node: NodeOut | undefined }) {
  const open = useBench((s) => s.open);
  const state = stateOf(data, step.name) as StepState;
  const next = steps[steps.findIndex((s) => s.name === step.name) + 1];
  const parts = data.nodes.filter((n) => n.part_of === step.name && n.piece === "*");
  const readings = [node, ...parts].flatMap((n) => n?.readings ?? []) as unknown as Reading[];
  const accepted = data.accepted.includes(step.name);
  const ready = state === "done" || state === "look";
  const missing = steps.filter((s) => !s.on_demand && !data.accepted.includes(s.name));

  function go() {
    if (step.on_demand) {
      if (missing.length > 0)
        doings.accept(
          missing.map((s) => s.name),
          true,
          doings.handOff,
        );
      else doings.handOff();
      return;
    }
    if (accepted) {
      if (next) open(next.name);
    } else if (ready) doings.accept([step.name], true, () => next && open(next.name));
  }

  const words = step.on_demand
    ? missing.length > 0
      ? "Accept all, make the files"
      : "Make the files"
    : accepted
      ? `Go to ${next?.title}`
      : `Accept, go to ${next?.title}`;
  return (
    <footer className="line border-t px-4 pt-2 pb-3">
      <Readings readings={readings} />
      {step.on_demand && missing.length > 0 && (
        <p className="mb-2 text-warning">▲ Not accepted yet: {missing.map((s) => s.title).join(", ")}.</p>
      )}
      <div className="flex gap-2">
        {accepted && (
          <button type="button" className="btn btn-sm h-10" onClick={() => doings.accept([step.name], false)}>
            Take back
          </button>
        )}
        <button
          type="button"
          className="btn btn-primary h-10 min-h-0 flex-1"
          disabled={doings.busy || (!accepted && !ready && !step.on_demand)}
          onClick={go}
        >
          {words} <kbd className="key border-current">↵</kbd>
        </button>
      </div>
      <Command id="accept" title="Accept and go on" keys="enter" group="Case" run={go} />
    </footer>
  );
}
