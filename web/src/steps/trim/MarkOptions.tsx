import { Choice, type Drawing } from "../../stage";
import { marksOf, useMarking } from "./markings";

const GROW_MM = 0.5;

/** What all ways of marking have: adding or taking away; all that is marked larger, smaller, the other way round; or no more. */
export function MarkOptions({ data, view, doings }: Drawing) {
  const { adds } = useMarking();
  const piece = view.piece;
  const any = piece && Object.keys(marksOf(data, piece)).length > 0;
  const mark = (value: Record<string, unknown>) => piece && doings.entry("marked", piece, ["marks"], "", value);
  return (
    <>
      <Choice
        label="What it does"
        value={adds ? "adds" : "away"}
        of={[
          { value: "adds", words: "goes" },
          { value: "away", words: "stays" },
        ]}
        onChoose={(value) => useMarking.setState({ adds: value === "adds" })}
      />
      <div className="flex gap-1">
        {[
          { words: `+ ${GROW_MM} mm`, value: { kind: "grow", mm: GROW_MM }, say: "Grow what is marked" },
          { words: `− ${GROW_MM} mm`, value: { kind: "grow", mm: -GROW_MM }, say: "Shrink what is marked" },
          { words: "invert", value: { kind: "invert" }, say: "Mark the other way round" },
        ].map(({ words, value, say }) => (
          <button
            key={words}
            type="button"
            aria-label={say}
            title={say}
            disabled={!any}
            className="btn btn-xs flex-1"
            onClick={() => mark(value)}
          >
            {words}
          </button>
        ))}
      </div>
      <button
        type="button"
        disabled={!any}
        className="btn btn-xs"
        title="What is marked becomes a piece of its own, and goes from here"
        onClick={() => piece && doings.piece(piece, "split")}
      >
        split off as a piece
      </button>
    </>
  );
}
