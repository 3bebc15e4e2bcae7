import { type DetailOf, detailOf, flagsOf, type NodeOf } from "../../case/look";
import { CLEAR, type Doings } from "../../case/useCase";
import type { CaseOut, PieceOut } from "../../shared/api/client";
import { capital } from "../../shared/format";
import { ReadingRow } from "../../shared/ui/ReadingRow";
import { useBench } from "../../store/bench";
import { swab } from "./swab";

const WAYS = ["auto", "scan bodies", "surface"] as const;

/** Scans that lie on a jaw or on each other: how well, on what, by what, and what has changed. */
export function Followers({ data, doings }: { data: CaseOut; doings: Doings }) {
  const nodes = data.nodes.filter((n): n is NodeOf<"follow"> => n.step === "follow");
  if (nodes.length === 0) return null;
  return (
    <section aria-label="Scans that follow" className="mb-1">
      <h3 className="dim pt-1 text-xs font-semibold">Scans that follow</h3>
      <ul>
        {nodes.map((node) => {
          const piece = data.pieces.find((p) => p.id === node.piece);
          const detail = detailOf(data, "follow", node.piece);
          return (
            piece &&
            detail && <Follower key={node.id} node={node} detail={detail} piece={piece} data={data} doings={doings} />
          );
        })}
      </ul>
    </section>
  );
}

function titleOf(piece: PieceOut | undefined): string {
  if (!piece) return "?";
  return capital(piece.jaw ?? (piece.kind === "jaw" ? `one more ${piece.looks ?? "jaw"}` : piece.kind));
}

interface FollowerProps {
  node: NodeOf<"follow">;
  detail: DetailOf<"follow">;
  piece: PieceOut;
  data: CaseOut;
  doings: Doings;
}

function Follower({ node, detail, piece, data, doings }: FollowerProps) {
  const { act, piece: acting, take, tool } = useBench();
  const on = acting === piece.id;
  const flags = flagsOf(detail);
  const refused = flags.find((f) => f.severity !== "note");
  const target = node.good.on ?? "";
  const strokes = Object.keys(detail.settings.swab).length;
  const others = data.pieces.filter(
    (p) => p.id !== piece.id && (p.jaw || data.nodes.some((n) => n.step === "follow" && n.piece === p.id)),
  );
  return (
    <li className="line border-b py-1 text-[13px]">
      <div className="flex justify-between gap-2">
        <span className="min-w-0 truncate" title={piece.file}>
          {titleOf(piece)}
        </span>
        <span className={refused ? "text-warning" : "dim whitespace-nowrap"}>
          {refused
            ? "▲ not placed"
            : `${node.figure} on ${titleOf(data.pieces.find((p) => p.id === target)).toLowerCase()}`}
        </span>
        <button
          type="button"
          className="font-semibold text-primary"
          aria-pressed={on}
          title="See it where it lies, with its distances"
          onClick={() => act(piece.id)}
        >
          Show
        </button>
      </div>
      {on && (
        <div className="py-1">
          {flags.map((f) => (
            <p key={f.id} className={f.severity === "note" ? "dim" : "text-warning"}>
              {f.message}
            </p>
          ))}
          <dl aria-label="How it lies" className="text-xs">
            {detail.readings.map((r) => (
              <ReadingRow key={r.name} of={r} small />
            ))}
          </dl>
          <Choice
            label="Lies on"
            value={detail.settings.on}
            options={[["", "auto"], ...others.map((p): [string, string] => [p.id, titleOf(p)])]}
            choose={(value) => doings.set("follow", piece.id, { on: value || CLEAR })}
          />
          <Choice
            label="Laid by"
            value={detail.settings.by}
            options={WAYS.map((w) => [w, w])}
            choose={(value) => doings.set("follow", piece.id, { by: value === "auto" ? CLEAR : value })}
          />
          <p className="flex items-center justify-between gap-2 pt-1">
            <button
              type="button"
              className="btn btn-xs"
              aria-pressed={tool?.id === swab.id}
              title="Brush what has changed, with Alt what has not (W)"
              onClick={() => take({ id: swab.id, at: "bite" })}
            >
              Swab <kbd className="key">W</kbd>
            </button>
            <span className="dim">{strokes === 1 ? "1 stroke by hand" : `${strokes} strokes by hand`}</span>
            {strokes > 0 && (
              <button
                type="button"
                className="font-semibold text-primary"
                onClick={() => doings.set("follow", piece.id, { swab: CLEAR })}
              >
                Take them back
              </button>
            )}
          </p>
        </div>
      )}
    </li>
  );
}

function Choice({
  label,
  value,
  options,
  choose,
}: {
  label: string;
  value: string;
  options: [string, string][];
  choose: (value: string) => void;
}) {
  return (
    <label className="flex items-center justify-between gap-2 py-0.5">
      {label}
      <select className="select select-xs w-36" value={value} onChange={(e) => choose(e.target.value)}>
        {options.map(([key, words]) => (
          <option key={key} value={key}>
            {words}
          </option>
        ))}
      </select>
    </label>
  );
}
