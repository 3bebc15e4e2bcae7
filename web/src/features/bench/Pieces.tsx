import { Eye, EyeClosed, Layers } from "lucide-react";
import type { CaseOut, PieceOut } from "../../shared/api/client";
import { capital } from "../../shared/format";
import { useBench, type Visibility } from "../../store/bench";
import type { Doings } from "./useCase";

const NEXT: Record<Visibility, Visibility> = { shown: "ghost", ghost: "hidden", hidden: "shown" };

/** Each scan as a tile: what it is, how it is shown, and whether the tools act on it. */
export function Pieces({
  data,
  doings,
  choose,
  share,
}: {
  data: CaseOut;
  doings: Doings;
  choose: () => void;
  share: number | null;
}) {
  return (
    <aside
      aria-label="Pieces"
      className="line flex w-[92px] shrink-0 flex-col gap-2 overflow-y-auto border-r bg-base-100 p-2"
    >
      {data.pieces.map((piece) => (
        <Tile key={piece.id} piece={piece} doings={doings} />
      ))}
      <button
        type="button"
        onClick={choose}
        title="Add scans to this case (N)"
        className="line dim rounded-lg border border-dashed px-1 py-3 text-xs hover:bg-secondary"
      >
        + drop files
        {share !== null && <progress className="progress mt-1" value={share} max={1} aria-label="Files on their way" />}
      </button>
    </aside>
  );
}

function Tile({ piece, doings }: { piece: PieceOut; doings: Doings }) {
  const { piece: acting, act, visibility, show } = useBench();
  const on = acting === piece.id;
  const how = visibility[piece.id] ?? (piece.jaw || on || !piece.kind ? "shown" : "hidden");
  const name = piece.jaw ? capital(piece.jaw) : piece.kind ? capital(piece.kind) : "Looking …";
  function choose(value: string) {
    const values = value === "kept" ? { kind: "other", jaw: "auto" } : { kind: "jaw", jaw: value };
    doings.set("intake", piece.id, values);
  }
  return (
    <div className={`rounded-lg border p-1.5 ${on ? "border-2 border-primary" : "line"}`} data-piece={piece.id}>
      <button
        type="button"
        aria-pressed={on}
        onClick={() => act(piece.id)}
        className="block w-full text-center"
        title={`${piece.file}${piece.same_as ? `, the same file as ${piece.same_as}` : ""}: the tools act on it`}
      >
        <ArchMark jaw={piece.jaw} faint={how !== "shown"} />
        <span className="block truncate text-xs font-semibold">{name}</span>
        {piece.confidence > 0 && (
          <span className="dim block text-[11px] leading-tight">
            {piece.confidence === 1 ? "set by hand" : `${Math.round(piece.confidence * 100)} % sure`}
          </span>
        )}
      </button>
      <label>
        <span className="sr-only">What {piece.file} is</span>
        <select
          className="line mt-1 h-6 w-full rounded border bg-base-100 px-0.5 text-[11px]"
          value={piece.jaw ?? "kept"}
          onChange={(e) => choose(e.target.value)}
          disabled={!piece.kind}
        >
          <option value="upper">upper</option>
          <option value="lower">lower</option>
          <option value="kept">kept only</option>
        </select>
      </label>
      <button
        type="button"
        onClick={() => show(piece.id, NEXT[how])}
        className="dim mt-1 flex w-full items-center justify-center gap-1 text-[11px]"
        title={`${name}: shown, ghosted or hidden (${piece.jaw === "lower" ? "L" : "U"})`}
      >
        {how === "shown" ? <Eye size={13} /> : how === "ghost" ? <Layers size={13} /> : <EyeClosed size={13} />}
        {how === "ghost" ? "ghosted" : how}
      </button>
    </div>
  );
}

/** An arch seen from the front of the mouth: the upper opens downwards, the lower upwards. */
function ArchMark({ jaw, faint }: { jaw: string | null; faint: boolean }) {
  return (
    <svg
      width="46"
      height="34"
      viewBox="0 0 46 34"
      className={`mx-auto ${faint ? "opacity-40" : ""}`}
      aria-hidden="true"
    >
      <title>{jaw ?? "piece"}</title>
      <g
        transform={jaw === "lower" ? "translate(0 34) scale(1 -1)" : undefined}
        fill="none"
        stroke="var(--color-accent)"
      >
        {jaw ? (
          <>
            <path d="M8 32V19C8 8 14 3 23 3s15 5 15 16v13" strokeWidth="6" strokeLinecap="round" opacity="0.45" />
            <path d="M8 32V19C8 8 14 3 23 3s15 5 15 16v13" strokeWidth="2" strokeDasharray="4 2.4" />
          </>
        ) : (
          <path d="M6 26c6-14 10-18 17-18s12 5 17 18" strokeWidth="5" strokeLinecap="round" opacity="0.5" />
        )}
      </g>
    </svg>
  );
}
