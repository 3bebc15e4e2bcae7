import { useEffect } from "react";
import type { Doings } from "../../case/useCase";
import type { CaseOut } from "../../shared/api/client";
import { Command } from "../../shared/ui/Command";
import { typing } from "../../shared/ui/typing";
import { useBench, type ViewName, type Visibility } from "../../store/bench";
import { begun } from "../../store/hand";

const VIEWS: { name: ViewName; title: string; keys: string }[] = [
  { name: "front", title: "From the front", keys: "1" },
  { name: "right", title: "From the patient's right", keys: "2" },
  { name: "left", title: "From the patient's left", keys: "3" },
  { name: "back", title: "From the back", keys: "4" },
  { name: "above", title: "From above", keys: "5" },
  { name: "below", title: "From below", keys: "6" },
  { name: "start", title: "Start view", keys: "7" },
  { name: "fit", title: "All in view", keys: "a" },
];
const NEXT: Record<Visibility, Visibility> = { shown: "ghost", ghost: "hidden", hidden: "shown" };

/** Is R held, to see the raw scan through the body? */
export function useRawKey(): boolean {
  const { rawHeld, holdRaw } = useBench();
  useEffect(() => {
    const down = (e: KeyboardEvent) => {
      if (e.key.toLowerCase() === "r" && !e.ctrlKey && !e.metaKey && !e.altKey && !typing(e)) holdRaw(true);
    };
    const up = (e: KeyboardEvent) => e.key.toLowerCase() === "r" && holdRaw(false);
    const away = () => holdRaw(false);
    window.addEventListener("keydown", down);
    window.addEventListener("keyup", up);
    window.addEventListener("blur", away);
    return () => {
      window.removeEventListener("keydown", down);
      window.removeEventListener("keyup", up);
      window.removeEventListener("blur", away);
    };
  }, [holdRaw]);
  return rawHeld;
}

/** The keys of the bench. */
export function BenchKeys({ data, doings, choose }: { data: CaseOut; doings: Doings; choose: () => void }) {
  const bench = useBench();
  function turn(jaw: "upper" | "lower") {
    const piece = data.pieces.find((p) => p.jaw === jaw);
    if (piece) bench.show(piece.id, NEXT[bench.visibility[piece.id] ?? "shown"]);
  }
  return (
    <>
      {VIEWS.map((v) => (
        <Command
          key={v.name}
          id={`view-${v.name}`}
          title={v.title}
          keys={v.keys}
          group="Views"
          run={() => bench.look(v.name)}
        />
      ))}
      <Command
        id="clear"
        title="Put the tool down"
        keys="escape"
        group="Tools"
        run={() => (begun() ?? { forget: bench.clear }).forget()}
      />
      <Command id="raw" title="Hold: see the raw scan" keys="r" group="Tools" run={() => {}} />
      <Command id="upper" title="Upper: shown, ghosted, hidden" keys="u" group="Pieces" run={() => turn("upper")} />
      <Command id="lower" title="Lower: shown, ghosted, hidden" keys="l" group="Pieces" run={() => turn("lower")} />
      <Command
        id="swap"
        title="Act on the other jaw"
        keys="o"
        group="Pieces"
        run={() => {
          const jaws = data.pieces.filter((p) => p.jaw);
          const other = jaws.find((p) => p.id !== bench.piece);
          if (other) bench.act(other.id);
        }}
      />
      <Command id="add" title="Add scans to this case" keys="n" group="Pieces" run={choose} />
      <Command id="undo" title="Take back" keys="mod+z" group="Case" run={doings.undo} />
      <Command id="redo" title="Do again" keys="mod+shift+z" group="Case" run={doings.redo} />
      <Command id="details" title="Details of the case" keys="d" group="Case" run={() => bench.turnTo("details")} />
      <Command id="history" title="History of the case" keys="h" group="Case" run={() => bench.turnTo("history")} />
      <Command
        id="cancel"
        title={data.held ? "Go on working" : "Cancel what is being worked out"}
        keys="c"
        group="Case"
        run={() => doings.hold(!data.held)}
      />
    </>
  );
}
