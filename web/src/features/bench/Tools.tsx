import { useEffect, useMemo } from "react";
import type { Doings } from "../../case/useCase";
import type { CaseOut } from "../../shared/api/client";
import { byKeyboard, Command } from "../../shared/ui/Command";
import { ToolButton } from "../../shared/ui/ToolButton";
import { type At, type StepUi, type Tool, useAwaited } from "../../stage";
import { STEP_UIS } from "../../steps";
import { type InHand, useBench, useView } from "../../store/bench";
import { begun, leave } from "../../store/hand";
import { TOOLS } from "../../tools";

/** A tool and the step it belongs to; "" for one of every step. */
export interface Kept {
  tool: Tool;
  at: string;
}

/** Every tool there is: those of every step first, then those of each step. */
export function useTools(): Kept[] {
  return useMemo(
    () => [
      ...TOOLS.map((tool) => ({ tool, at: "" })),
      ...STEP_UIS.flatMap((ui) => (ui.tools ?? []).map((tool) => ({ tool, at: ui.name }))),
    ],
    [],
  );
}

export function toolInHand(tools: Kept[], inHand: InHand | null): Tool | null {
  return tools.find(({ tool, at }) => tool.id === inHand?.id && at === inHand.at)?.tool ?? null;
}

interface Props {
  data: CaseOut;
  tools: Kept[];
  ui: StepUi;
  doings: Doings;
  raw: boolean;
}

/** More tools than this leave no room for their keys. */
const MANY = 8;

/** The toolbar of the open step, the keys of all tools, and the hint for the one in the hand. */
export function Tools({ data, tools, ui, doings, raw }: Props) {
  const view = useView();
  const take = useBench((s) => s.take);
  const open = useBench((s) => s.open);
  const inHand = toolInHand(tools, view.tool);
  // What was begun with a tool is forgotten when it is put down.
  useEffect(() => () => inHand?.drop?.(), [inHand]);

  // A press on a button has the keys after it: with a tool in the hand Space is not that button's again.
  useEffect(() => {
    if (!inHand) return;
    const keep = (event: KeyboardEvent) => {
      const on = event.target instanceof HTMLElement ? event.target.closest("button, summary") : null;
      if (event.key === " " && on && !byKeyboard()) event.preventDefault();
    };
    const events = ["keydown", "keyup"] as const;
    for (const name of events) window.addEventListener(name, keep, true);
    return () => {
      for (const name of events) window.removeEventListener(name, keep, true);
    };
  }, [inHand]);

  function use(kept: Kept) {
    leave(() => pickUp(kept));
  }
  function pickUp({ tool, at }: Kept) {
    if (at && view.step !== at) open(at);
    if (tool.here && !tool.here({ data, view })) return;
    if (tool.run) tool.run({ data, view });
    else take({ id: tool.id, at });
  }
  const here = tools.filter(({ tool, at }) => (at === "" || at === ui.name) && (tool.here?.({ data, view }) ?? true));
  const shown = here.filter(({ tool }) => tool.button !== false);
  return (
    <>
      {tools
        .filter(({ tool }) => tool.keys)
        .map((kept) => (
          <Command
            key={kept.tool.id}
            id={kept.tool.id}
            title={kept.tool.long}
            keys={kept.tool.keys}
            group={kept.tool.group ?? "Tools"}
            run={() => use(kept)}
          />
        ))}
      {inHand &&
        ["delete", "backspace"].map((keys) => (
          <Command
            key={keys}
            id={`back-${keys}`}
            title="Take back the last corner or point"
            keys={keys}
            group="Tools"
            run={() => begun()?.back?.()}
          />
        ))}
      {here.map(
        ({ tool }) =>
          tool.Works && <tool.Works key={tool.id} data={data} doings={doings} inHand={inHand?.id === tool.id} />,
      )}
      <div
        className="pointer-events-none absolute top-3 right-3 left-3 flex flex-wrap gap-2 *:pointer-events-auto"
        role="toolbar"
        aria-label="Tools"
      >
        {shown.map((kept) => (
          <ToolButton
            key={kept.tool.id}
            close={shown.length > MANY}
            label={kept.tool.title}
            keys={kept.tool.keys}
            icon={kept.tool.icon && <kept.tool.icon size={15} />}
            on={inHand?.id === kept.tool.id || kept.tool.on?.({ data, view })}
            onClick={() => use(kept)}
          />
        ))}
      </div>
      {inHand ? <Hint key={inHand.id} tool={inHand} /> : <Idle ui={ui} at={{ data, view }} raw={raw} />}
    </>
  );
}

const nothing = () => "";

/** What to do with the tool in the hand. */
function Hint({ tool }: { tool: Tool }) {
  // A tool is always the same one as long as this is mounted: which hook it has does not change.
  const now = (tool.useHint ?? nothing)();
  const waits = useAwaited((s) => s.keys.size > 0);
  const says = now || tool.hint;
  if (!waits && !says) return null;
  return (
    <Said>
      {waits && <b className="block">One moment: the surface is not here in full yet.</b>}
      {says}
    </Said>
  );
}

/** What is seen while nothing is in the hand. */
function Idle({ ui, at, raw }: { ui: StepUi; at: At; raw: boolean }) {
  if (raw) return <Said>This is the scan as it came.</Said>;
  const hint = typeof ui.hint === "function" ? ui.hint(at) : ui.hint;
  if (!hint) return null;
  return (
    <Said>
      {hint} Hold <kbd className="key">R</kbd> to see the raw scan.
    </Said>
  );
}

function Said({ children }: { children: React.ReactNode }) {
  if (!children) return null;
  return (
    <p className="line pointer-events-none absolute bottom-4 left-64 max-w-80 rounded-lg border bg-base-100 px-3 py-2">
      {children}
    </p>
  );
}
