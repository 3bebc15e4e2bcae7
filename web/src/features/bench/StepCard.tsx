import { type RefObject, useEffect, useRef, useState } from "react";
import { DoubtList } from "../../case/DoubtList";
import { mend, openDoubts, waitingOf } from "../../case/doubts";
import { asks, detailOfNode, isAccepted, nodesOf, partsOf, partsOfPiece, pieceOf } from "../../case/look";
import { isComing, stateOf } from "../../case/states";
import { CLEAR, type Doings } from "../../case/useCase";
import { useShow } from "../../case/useShow";
import type { CaseOut, NodeDetail, NodeOut, Reading, StepOut } from "../../shared/api/client";
import { capital } from "../../shared/format";
import { Command } from "../../shared/ui/Command";
import { ReadingRow } from "../../shared/ui/ReadingRow";
import { SettingsForm } from "../../shared/ui/SettingsForm";
import { STATE_WORDS } from "../../shared/ui/StateMark";
import { toStage } from "../../stage";
import { uiOf } from "../../steps";
import { useBench, useView } from "../../store/bench";
import { ends, leave } from "../../store/hand";
import { say } from "../../store/notices";
import { Found } from "./Found";

interface Props {
  data: CaseOut;
  steps: StepOut[];
  step: StepOut;
  doings: Doings;
}

/** The open step: what was found, the settings that matter, the readings, and the button that goes on. */
export function StepCard({ data, steps, step, doings }: Props) {
  const view = useView();
  const act = useBench((s) => s.act);
  const nodes = nodesOf(data, step.name);
  const node = nodes.find((n) => n.piece === view.piece) ?? nodes[0];
  const state = stateOf(data, step.name);
  const detail = detailOfNode(data, node);
  const ui = uiOf(step.name);
  // State, sentences and settings are of one revision: until they are here together, none of them is shown.
  const here = data.open === step.name;
  // Enter that is pressed before the step is here is not lost.
  const early = useRef("");
  const { Card, Below } = ui;
  const own = { data, view, ui, step, node: detail, doings };
  return (
    <>
      <header className="line flex items-baseline justify-between border-b px-4 pt-3 pb-2">
        <h2 className="text-lg font-bold">{step.title}</h2>
        <span className="dim text-xs">
          {!here ? "…" : doings.busy ? "being changed" : STATE_WORDS[state]}
          {here && detail?.seconds != null && ` · ${detail.seconds.toFixed(1)} s`}, step {step.number} of 10
        </span>
      </header>
      {here && nodes.length > 1 && <Which data={data} nodes={nodes} node={node} act={act} />}
      {!here && <p className="dim late flex-1 px-4 py-3">The step comes …</p>}
      {here && (
        <div className="min-h-0 flex-1 overflow-y-auto px-4 py-2">
          <Changed data={data} step={step} detail={detail} />
          {step.over === "scans" && Card && <Card {...own} />}
          <Found
            data={data}
            step={step}
            node={node}
            detail={detail}
            place={(piece, point) => toStage(ui, { data, view }, piece, point)}
            doings={doings}
          />
          {step.over !== "scans" && Card && <Card {...own} />}
          {detail && <Settings data={data} step={step} detail={detail} doings={doings} />}
          {Below && <Below {...own} />}
        </div>
      )}
      {here && <Foot data={data} steps={steps} step={step} detail={detail} doings={doings} early={early} />}
      {!here && (
        <Command
          id="accept"
          title="Accept and go on"
          keys="enter"
          group="Case"
          run={() => {
            early.current = step.name;
          }}
        />
      )}
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

/** What has become another since it was accepted; or what is kept as it was, though the step has a newer version. */
function Changed({ data, step, detail }: { data: CaseOut; step: StepOut; detail: NodeDetail | undefined }) {
  const changed = data.accepted[step.name] ?? [];
  return (
    <>
      {changed.length > 0 && (
        <section
          aria-label="Changed since it was accepted"
          className="mb-1 rounded-lg bg-[var(--look-ground)] px-3 py-1.5"
        >
          <b className="text-warning">≠ Changed since it was accepted</b>
          <ul>
            {changed.map((words) => (
              <li key={words}>{capital(words)}</li>
            ))}
          </ul>
        </section>
      )}
      {detail?.kept != null && (
        <p className="dim py-1">
          Made by version {detail.kept} of this step and kept, for it was accepted. Take the acceptance back to have it
          made anew.
        </p>
      )}
    </>
  );
}

/** Most settings count for both jaws; those that do not are named. */
function forWhom(step: StepOut): string {
  const own = step.settings.filter((s) => s.per_jaw && s.type === "boolean").map((s) => s.label.toLowerCase());
  return own.length ? `For both jaws; each its own: ${own.join(", ")}.` : "For both jaws.";
}

interface SettingsProps {
  data: CaseOut;
  step: StepOut;
  detail: NodeDetail;
  doings: Doings;
}

function Settings({ data, step, detail, doings }: SettingsProps) {
  const alone = step.over === "scans";
  const of = (key: string) => step.settings.find((s) => s.key === key);
  const where = (key: string) => (alone || of(key)?.per_jaw ? detail.piece : "*");
  // Parts of a step have settings of their own on its card, those that run for each jaw too.
  const own = partsOfPiece(data, step.name, detail.piece === "*" ? null : detail.piece);
  const all = [...partsOf(data, step.name), ...own, detail];
  const jaws = !alone && step.over !== "whole" && nodesOf(data, step.name).length > 1;
  return (
    <section aria-label="Settings">
      {jaws && <p className="dim pt-1 pb-0.5 text-xs">{forWhom(step)}</p>}
      <SettingsForm
        settings={step.settings}
        values={Object.assign({}, ...all.map((d) => d.settings))}
        whose={Object.assign({}, ...all.map((d) => d.whose))}
        auto={uiOf(step.name).auto?.(data, detail.piece)}
        newer={data.newer}
        onRenew={doings.takeRecords}
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

/** Where several jaws say the same, each with its jaw's name. */
function readingsOf(data: CaseOut, detail: NodeDetail | undefined, named: boolean): Reading[] {
  const jaw = named && detail ? pieceOf(data, detail.piece)?.jaw : null;
  return (detail?.readings ?? []).map((r) => (jaw ? { ...r, name: `${capital(jaw)}: ${r.name}` } : r));
}

interface FootProps extends Props {
  detail: NodeDetail | undefined;
  early: RefObject<string>;
}

function Foot({ data, steps, step, detail, doings, early }: FootProps) {
  const open = useBench((s) => s.open);
  const state = stateOf(data, step.name);
  const next = steps[steps.findIndex((s) => s.name === step.name) + 1];
  // Of parts that run for each body of a step that runs once, those that are set on its card.
  const own = !detail
    ? []
    : detail.piece !== "*"
      ? partsOfPiece(data, step.name, detail.piece)
      : partsOfPiece(data, step.name, null).filter((d) => step.settings.some((s) => s.step === d.step));
  const named = detail?.piece === "*" && own.filter((d) => d.readings?.length).length > 1;
  const readings = [detail, ...partsOf(data, step.name), ...own].flatMap((d) => readingsOf(data, d, named));
  const accepted = isAccepted(data, step.name) || (!step.on_demand && !asks(data, step));
  const ready = state === "done" || state === "look";
  const { waiting: missing, plain, first } = waitingOf(data, steps);
  const show = useShow();
  // What was asked for and not made is passed by its own yes alone.
  const asked = step.on_demand && data.asked.includes(step.name);
  const unmet = openDoubts(data, step.name).filter((d) => d.own);
  const coming = step.on_demand ? steps.filter((s) => !s.on_demand && isComing(data, s.name)) : [];
  const again = (data.accepted[step.name]?.length ?? 0) > 0;

  function go() {
    if (step.on_demand) {
      if (coming.length > 0 || doings.busy || asked) return;
      const names = plain.map((s) => s.name);
      if (first) {
        if (names.length > 0) doings.accept(names);
        say(`${first.title} has a doubt. Say yes to it, or mend it: the list is on this card.`, "look");
      } else if (names.length > 0) doings.accept(names, true, doings.handOff);
      else doings.handOff();
      return;
    }
    if (accepted) {
      if (next) open(next.name);
    } else if (ready && unmet.length === 0 && !doings.busy) {
      const seen = openDoubts(data, step.name).map((d) => d.id);
      doings.accept([step.name], true, () => next && open(next.name), seen);
    }
  }

  /** Enter belongs to the tool in the hand; accepting needs an empty one. */
  function byKey() {
    if (!useBench.getState().tool) go();
    else if (!ends()) say("There is a tool in your hand. Put it down with Esc, then Enter accepts.");
  }

  const latest = useRef(byKey);
  latest.current = byKey;
  const plainly = openDoubts(data, step.name).length === 0;
  useEffect(() => {
    // What has a doubt is read first.
    if (early.current === step.name) {
      if (plainly) latest.current();
      else
        say("Enter was pressed before this card was here. It has something to read: press it again to accept.", "look");
    }
    early.current = "";
  }, [step.name, plainly, early]);

  const words = asked
    ? `Asked for: ${data.queue || "being made"} …`
    : step.on_demand
      ? first
        ? plain.length > 0
          ? `Accept up to ${first.title}`
          : `${first.title} has a doubt`
        : missing.length > 0
          ? "Accept all, make the files"
          : "Make the files"
      : accepted
        ? `Go to ${next?.title}`
        : unmet.length > 0
          ? `${unmet.length} ${unmet.length === 1 ? "finding needs" : "findings need"} a yes`
          : again
            ? "Accept again"
            : `Accept, go to ${next?.title}`;
  return (
    <footer className="line border-t px-4 pt-2 pb-3">
      <Readings readings={readings} />
      {coming.length > 0 ? (
        <p className="dim mb-2">Not worked out yet: {coming.map((s) => s.title).join(", ")}.</p>
      ) : (
        step.on_demand &&
        missing.length > 0 && (
          <p className="mb-2 text-warning">▲ Not accepted yet: {missing.map((s) => s.title).join(", ")}.</p>
        )
      )}
      {step.on_demand && coming.length === 0 && (
        <DoubtList
          doubts={data.doubts.filter((d) => missing.some((s) => s.name === d.step))}
          busy={doings.busy}
          onShow={show}
          onFix={(fix) => mend(doings, fix)}
          onAnswer={doings.answer}
        />
      )}
      <div className="flex gap-2">
        {step.name in data.accepted && (
          <button type="button" className="btn btn-sm h-10" onClick={() => doings.accept([step.name], false)}>
            Take back
          </button>
        )}
        <button
          type="button"
          className="btn btn-primary h-10 min-h-0 flex-1"
          disabled={
            doings.busy ||
            asked ||
            coming.length > 0 ||
            (!accepted && !step.on_demand && (!ready || unmet.length > 0)) ||
            (step.on_demand && first !== null && plain.length === 0)
          }
          onClick={() => leave(go)}
        >
          {words} <kbd className="key border-current">↵</kbd>
        </button>
      </div>
      <Command id="accept" title="Accept and go on" keys="enter" group="Case" run={byKey} />
    </footer>
  );
}
