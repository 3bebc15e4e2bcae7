import { Eye, EyeClosed, Layers } from "lucide-react";
import { useRef } from "react";
import { isAccepted } from "../../case/look";
import type { Doings } from "../../case/useCase";
import type { CaseOut, PieceOut } from "../../shared/api/client";
import { capital } from "../../shared/format";
import { useBench, type Visibility } from "../../store/bench";

const NEXT: Record<Visibility, Visibility> = { shown: "ghost", ghost: "hidden", hidden: "shown" };

const KINDS = [
  ["bite", "bite scan"],
  ["before", "before"],
  ["wax", "wax-up"],
  ["closed", "closed model"],
  ["impression", "impression"],
  ["bodies", "scan bodies"],
  ["desk", "desk scan"],
  ["die", "die"],
  ["denture", "denture"],
  ["returned", "came back"],
  ["part", "house part"],
  ["other", "other"],
] as const;

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
      className={`line flex w-[98px] shrink-0 flex-col gap-2 overflow-y-auto border-r bg-base-100 p-2 ${isAccepted(data, "intake") ? "" : "looking"}`}
    >
      {data.pieces.map((piece) => (
        <Tile key={piece.id} number={data.number} piece={piece} doings={doings} />
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

function Tile({ number, piece, doings }: { number: string; piece: PieceOut; doings: Doings }) {
  const { piece: acting, act, visibility, show } = useBench();
  const on = acting === piece.id;
  const how = visibility[piece.id] ?? (piece.jaw || on || !piece.kind || !piece.settled ? "shown" : "hidden");
  const name = nameOf(piece);
  function choose(value: string) {
    const jaw = value === "upper" || value === "lower";
    doings.set("intake", piece.id, jaw ? { kind: "jaw", jaw: value } : { kind: value, jaw: "auto" });
  }
  const kind = piece.jaw ?? (piece.kind === "jaw" ? "" : piece.kind);
  return (
    <div
      className={`group relative rounded-lg border p-1.5 ${on ? "border-2 border-primary" : "line"}`}
      data-piece={piece.id}
    >
      <button
        type="button"
        aria-label={`Put ${piece.file} aside`}
        title="Put aside: out of the case; undo brings it back"
        onClick={() => doings.piece(piece.id, "aside")}
        className="dim absolute top-0 right-0 z-10 h-6 w-6 rounded bg-base-100/80 opacity-0 group-focus-within:opacity-100 group-hover:opacity-100"
      >
        ×
      </button>
      <More number={number} piece={piece} doings={doings} />
      <button
        type="button"
        aria-pressed={on}
        onClick={() => act(piece.id)}
        className="block w-full text-center"
        title={`${piece.file}${piece.same_as ? `, the same file as ${piece.same_as}` : ""}: the tools act on it`}
      >
        {piece.turning ? (
          <span
            className={`turning mx-auto block ${how !== "shown" ? "opacity-40" : ""}`}
            style={{ backgroundImage: `url(/api/pictures/${piece.turning}.png)` }}
          />
        ) : (
          <ArchMark jaw={piece.jaw} faint={how !== "shown"} />
        )}
        <span className="block truncate text-xs font-semibold">{name}</span>
        {piece.settled && piece.confidence > 0 && (
          <span className="dim block text-[11px] leading-tight">
            {piece.confidence === 1 ? "set by hand" : `${Math.round(piece.confidence * 100)} % sure`}
          </span>
        )}
      </button>
      <label>
        <span className="sr-only">What {piece.file} is</span>
        <select
          className="line mt-1 h-6 w-full rounded border bg-base-100 px-0 text-[11px] tracking-tight"
          value={kind}
          onChange={(e) => choose(e.target.value)}
          disabled={!piece.kind}
        >
          {kind === "" && <option value="">jaw</option>}
          <option value="upper">upper</option>
          <option value="lower">lower</option>
          {KINDS.map(([value, words]) => (
            <option key={value} value={value}>
              {words}
            </option>
          ))}
        </select>
      </label>
      {piece.settled && piece.instead_of && <Asks piece={piece} old={piece.instead_of} doings={doings} />}
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

const MAKES = [
  { what: "copy", words: "copy", says: "The same scan once more, with its settings", of: "" },
  { what: "apart", words: "take apart", says: "A bite impression: into upper, lower and their bite", of: "impression" },
] as const;

const FRAMES = [
  ["bench", "as it stands on the bench"],
  ["bite", "as it bites, with the upper at home"],
  ["home", "where it was scanned"],
] as const;

/** The scan as a file, in the coordinates that are chosen; and pieces that are made of it. */
function More({ number, piece, doings }: { number: string; piece: PieceOut; doings: Doings }) {
  const menu = useRef<HTMLDetailsElement>(null);
  return (
    <details
      ref={menu}
      className="absolute top-0 left-0 z-10 opacity-0 open:opacity-100 group-focus-within:opacity-100 group-hover:opacity-100"
      onMouseLeave={() => menu.current?.removeAttribute("open")}
    >
      <summary
        aria-label={`Export ${piece.file}`}
        title="Export this scan as STL, or make a piece of it"
        className="dim grid h-6 w-6 cursor-pointer list-none place-items-center rounded bg-base-100/80"
      >
        ↓
      </summary>
      <ul className="line rounded-lg border bg-base-100 py-1 text-xs shadow">
        {FRAMES.map(([frame, says]) => (
          <li key={frame}>
            <a
              href={`/api/cases/${number}/scans/${piece.id}.stl?frame=${frame}`}
              download
              title={`STL ${says}`}
              className="block px-3 py-1 hover:bg-secondary"
            >
              {frame}
            </a>
          </li>
        ))}
        {MAKES.filter(({ of }) => of === "" || of === piece.kind).map(({ what, words, says }) => (
          <li key={what}>
            <button
              type="button"
              title={says}
              className="line block w-full border-t px-3 py-1 text-left hover:bg-secondary"
              onClick={() => {
                menu.current?.removeAttribute("open");
                doings.piece(piece.id, what);
              }}
            >
              {words}
            </button>
          </li>
        ))}
      </ul>
    </details>
  );
}

function nameOf(piece: PieceOut): string {
  // What comes in with it may still make it another: no name is better than one that is taken back.
  if (!piece.settled && piece.confidence < 1) return "Looking …";
  if (piece.jaw) return capital(piece.jaw);
  if (piece.kind === "jaw") return `One more ${piece.looks ?? "jaw"}`;
  if (piece.side) return `${capital(piece.kind)}, ${piece.side}`;
  return piece.kind ? capital(piece.kind) : "Looking …";
}

/** A further scan of a jaw that is there: whose place it takes is never decided by itself. */
function Asks({ piece, old, doings }: { piece: PieceOut; old: string; doings: Doings }) {
  return (
    <fieldset className="mt-1 rounded bg-[var(--look-ground)] p-1 text-center text-[11px]">
      <legend className="sr-only">{piece.file} is a further scan of this jaw</legend>
      <span className="block font-semibold text-warning">▲ one more</span>
      <button
        type="button"
        className="block w-full font-semibold text-primary"
        title="It takes the place of the first scan; all settings are kept"
        onClick={() => doings.piece(piece.id, "instead", old)}
      >
        instead
      </button>
      <button
        type="button"
        className="block w-full font-semibold text-primary"
        title="It is kept with the case; the work goes on with the first"
        onClick={() => doings.piece(piece.id, "beside")}
      >
        beside
      </button>
    </fieldset>
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
