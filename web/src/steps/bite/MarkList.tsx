import { detailOf } from "../../case/look";
import type { Doings } from "../../case/useCase";
import type { CaseOut } from "../../shared/api/client";
import { type Pair, useBench } from "../../store/bench";
import { colourOf } from "./Pairs";

const LEAST = 3;

/** The pairs that are kept with the case, the older first, each with its id. */
export function marksOf(data: CaseOut, piece: string): { id: string; pair: Pair }[] {
  const marks = detailOf(data, "fit")?.settings.marks[piece] ?? {};
  return Object.entries(marks)
    .sort(([a], [b]) => a.length - b.length || a.localeCompare(b))
    .map(([id, mark]) => ({ id, pair: mark }));
}

/** The pairs of marks of a bite scan: each with what is left between its points, to be moved or dropped. */
export function MarkList({ data, doings, apart }: { data: CaseOut; doings: Doings; apart: number[] }) {
  const { marking, setPair, mark } = useBench();
  if (!marking) return null;
  const marks = marksOf(data, marking.piece);
  const pairs = marks.map((m) => m.pair);
  return (
    <section aria-label="Marks" className="mb-2">
      <p className="py-1">
        Click the same point on the jaws (left) and on the bite scan (right).{" "}
        <b data-testid="marks-ask">{asks(pairs, marking.pair)}</b>
      </p>
      <ul aria-label="Pairs of marks">
        {marks.map(({ id, pair }, i) => (
          <li key={id} className="line flex items-center gap-2 border-b py-0.5 text-[13px]">
            <span
              className="grid h-5 w-5 place-items-center rounded-full text-[11px] font-bold text-white"
              style={{ background: colourOf(i) }}
            >
              {i + 1}
            </span>
            <span className="flex-1">{pair.jaw}</span>
            <span className="dim">{apart[i] === undefined ? "" : `${apart[i]?.toFixed(2)} mm apart`}</span>
            <button
              type="button"
              className="font-semibold text-primary"
              aria-pressed={marking.number === i}
              onClick={() => setPair(i, {})}
              title="Click both points anew"
            >
              Move
            </button>
            <button
              type="button"
              className="font-semibold text-primary"
              aria-label={`Drop pair ${i + 1}`}
              onClick={() => doings.entry("fit", "*", ["marks", marking.piece], id, null)}
            >
              Drop
            </button>
          </li>
        ))}
      </ul>
      <button type="button" className="btn btn-sm mt-2" onClick={() => mark(null)}>
        Done with marks
      </button>
    </section>
  );
}

/** What is to be clicked next. */
function asks(pairs: Pair[], half: Pair): string {
  if (half.bite) return "Now the same point on a jaw.";
  if (half.at) return "Now the same point on the bite scan.";
  const left = ["upper", "lower"]
    .map((jaw) => ({ jaw, missing: LEAST - pairs.filter((p) => p.jaw === jaw).length }))
    .filter((m) => m.missing > 0);
  if (left.length === 0) return "Enough: the fit starts from these marks.";
  return `Still to mark: ${left.map((m) => `${m.missing} on the ${m.jaw}`).join(", ")}.`;
}
