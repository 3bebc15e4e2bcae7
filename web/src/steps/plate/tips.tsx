import { Pin } from "lucide-react";
import { useEffect } from "react";
import { Vector3 } from "three";
import { create } from "zustand";
import { detailOf, nodeOf, nodesOf } from "../../case/look";
import type { CaseOut } from "../../shared/api/client";
import {
  Choice,
  type Drawing,
  fromStage,
  Label,
  PulledBall,
  type Tool,
  ToolPanel,
  toStage,
  useLeft,
} from "../../stage";
import type { Point } from "../../store/bench";

const BY_ITSELF = "#3b6ea5";
const BY_HAND = "#b7791f";
const AMISS = "#b4232a";

const round = (at: Point) => at.map((mm) => Math.round(mm * 100) / 100) as Point;
const apart = (a: Point, b: Point) => new Vector3(...a).distanceTo(new Vector3(...b));

interface SetTip {
  at: Point | null;
  to: Point | null;
  instead: Point | null;
}

type How = "one" | "row";
const HOWS = [
  { value: "one", words: "One" },
  { value: "row", words: "Row" },
] as const;

/** One tip at a press, or a row from one press to the next: where that began. */
const useRow = create<{ how: How; from: { piece: string; at: Point } | null }>(() => ({ how: "one", from: null }));

interface Seen {
  at_mm: Point;
  by: string;
  tooth: number;
  stands: boolean;
  /** It was set and is not worked out yet, or has no place any more. */
  only?: "set" | "lost";
}

const MEANT_MM = 1.5;

/** The tips of a body, with what was set by hand since. */
function tipsOf(data: CaseOut, address: string): Seen[] {
  const node = nodeOf(data, "supports", address);
  const known: Seen[] = (node?.piece === address && node.good?.tips) || [];
  const said = Object.entries(byHand(data, address));
  const gone = said.flatMap(([, entry]) => (entry.instead ? [entry.instead] : []));
  const fresh = said.flatMap(([id, entry]): Seen[] =>
    entry.at && !known.some((tip) => tip.by === id)
      ? [
          {
            at_mm: entry.at,
            by: id,
            tooth: 0,
            stands: true,
            only: node?.state === "done" || node?.state === "look" ? "lost" : "set",
          },
        ]
      : [],
  );
  return [...known.filter((tip) => tip.by || !gone.some((at) => apart(at, tip.at_mm) < MEANT_MM / 4)), ...fresh];
}

function byHand(data: CaseOut, address: string): Record<string, SetTip> {
  return (detailOf(data, "supports", address)?.settings.tips ?? {}) as Record<string, SetTip>;
}

/** What a press on a tip says: none stands there any more. */
function without(entry: SetTip | undefined, at: Point) {
  if (!entry) return { at: null, instead: round(at) };
  return entry.instead ? { at: null, instead: entry.instead } : null;
}

/** What is said where a tip was pulled to a place. */
function moved(entry: SetTip | undefined, from: Point, to: Point) {
  if (!entry?.at) return { at: to, instead: round(from) };
  if (entry.to && apart(from, entry.to) < apart(from, entry.at)) return { ...entry, to };
  return { ...entry, at: to };
}

function Balls(drawing: Drawing) {
  const { data, view, ui, doings, hold } = drawing;
  const at = { data, view };
  const left = useLeft();
  const from = useRow((s) => s.from);
  return (
    <>
      {nodesOf(data, "supports").flatMap((node) =>
        tipsOf(data, node.piece)
          .filter((tip) => left(toStage(ui, at, node.piece, tip.at_mm)))
          .map((tip) => (
            <PulledBall
              key={`${node.piece} ${tip.at_mm.join(" ")}`}
              name={`tip-${node.piece}`}
              at={toStage(ui, at, node.piece, tip.at_mm)}
              colour={
                !tip.stands || tip.only === "lost" || (tip.by && tip.tooth) ? AMISS : tip.by ? BY_HAND : BY_ITSELF
              }
              radius={0.45}
              along="view"
              onHold={hold}
              onPut={(stage) => {
                const to = fromStage(ui, at, node.piece, stage);
                const entry = byHand(data, node.piece)[tip.by];
                if (to) doings.entry("supports", node.piece, ["tips"], tip.by, moved(entry, tip.at_mm, to));
              }}
              onPress={() =>
                doings.entry(
                  "supports",
                  node.piece,
                  ["tips"],
                  tip.by,
                  without(byHand(data, node.piece)[tip.by], tip.at_mm),
                )
              }
            />
          )),
      )}
      {from && (
        <PulledBall
          name="row-from"
          at={toStage(ui, at, from.piece, from.at)}
          colour={BY_HAND}
          radius={0.6}
          along="view"
          onHold={hold}
          onPut={() => {}}
          onPress={() => useRow.setState({ from: null })}
        />
      )}
    </>
  );
}

/** Beside every tip that was set by hand: what it stands on. */
function Told({ data, view, ui }: Drawing) {
  const left = useLeft();
  return nodesOf(data, "supports").flatMap((node) =>
    tipsOf(data, node.piece)
      .filter((tip) => tip.by)
      .map((tip) => ({ tip, at: toStage(ui, { data, view }, node.piece, tip.at_mm) }))
      .filter(({ at }) => left(at))
      .map(({ tip, at }) => (
        <Label key={`${node.piece} ${tip.at_mm.join(" ")}`} at={at}>
          <span data-testid="tip-by-hand" className="text-xs">
            {told(tip)}
          </span>
        </Label>
      )),
  );
}

function told(tip: Seen): string {
  if (tip.only) return tip.only === "set" ? "…" : "no place";
  if (tip.tooth > 0) return `on ${tip.tooth}`;
  return tip.stands ? "by hand" : "no way down";
}

function Panel(drawing: Drawing) {
  const { data, doings } = drawing;
  const { how, from } = useRow();
  useEffect(() => () => useRow.setState({ how: "one", from: null }), []);
  const bodies = nodesOf(data, "supports").filter((n) => Object.keys(byHand(data, n.piece)).length > 0);
  const count = bodies.reduce((sum, n) => sum + Object.keys(byHand(data, n.piece)).length, 0);
  return (
    <>
      <Told {...drawing} />
      <ToolPanel name="Tips">
        <Choice label="Set" value={how} of={HOWS} onChoose={(value) => useRow.setState({ how: value, from: null })} />
        <p className="dim">
          {how === "one"
            ? "Press on an underside to add a tip, on a tip to take it away; pull one elsewhere."
            : from
              ? "Press where the row ends."
              : "Press where the row begins, along an edge."}
        </p>
        {count > 0 && (
          <button
            type="button"
            className="self-start font-semibold text-primary"
            disabled={doings.busy}
            onClick={() => {
              for (const node of bodies) doings.set("supports", node.piece, { tips: {} });
            }}
          >
            Drop what was set by hand ({count})
          </button>
        )}
      </ToolPanel>
    </>
  );
}

export const tips: Tool = {
  id: "tips",
  title: "Tips",
  long: "Tips: add, move and take away what a body stands on",
  keys: "alt+k",
  icon: Pin,
  hint: "Look from below: every ball is the tip of a support.",
  here: ({ data }) => nodesOf(data, "supports").some((n) => tipsOf(data, n.piece).length > 0),
  picks: true,
  onPick: ({ doings }, shown, home) => {
    if (shown.role !== "body") return;
    const at = round(home);
    const { how, from } = useRow.getState();
    if (how === "row" && from?.piece !== shown.piece) return useRow.setState({ from: { piece: shown.piece, at } });
    const one = how === "row" && from ? { at: from.at, to: at } : { at };
    doings.entry("supports", shown.piece, ["tips"], "", one);
    useRow.setState({ from: null });
  },
  drop: () => useRow.setState({ how: "one", from: null }),
  Draws: Balls,
  Words: Panel,
};
