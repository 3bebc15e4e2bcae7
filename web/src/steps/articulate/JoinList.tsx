import { detailOf, goodOf, type NodeOf } from "../../case/look";
import type { PieceOut } from "../../shared/api/client";
import type { CardProps } from "../../stage";

/** Scans that lie on a jaw: printed as one body with its model, as those that are chosen here; the jaw alone is printed too. */
export function JoinList({ data, doings }: CardProps) {
  const rows = data.pieces.flatMap((jaw) => {
    const lying = jaw.jaw ? data.pieces.filter((p) => targetOf(p)?.id === jaw.id) : [];
    const chosen = detailOf(data, "join", jaw.id)?.settings.scans ?? [];
    // What was chosen and lies there no more can still be taken off.
    const lost = chosen.filter((id) => !lying.some((p) => p.id === id));
    const scans = [...lying, ...data.pieces.filter((p) => lost.includes(p.id))];
    return scans.map((scan) => ({ jaw, scan, chosen }));
  });

  /** The jaw a scan lies on in the end. */
  function targetOf(scan: PieceOut): PieceOut | undefined {
    let at: string | undefined = scan.id;
    for (let k = 0; at && k < data.pieces.length; k++) {
      const jaw = data.pieces.find((p) => p.id === at && p.jaw);
      if (jaw) return at === scan.id ? undefined : jaw;
      at = (goodOf(data, "follow", at) as NodeOf<"follow">["good"] | undefined)?.place?.on;
    }
    return undefined;
  }

  if (rows.length === 0) return null;
  return (
    <section className="mt-3 text-[13px]" aria-label="As one body">
      <h3 className="dim text-xs font-semibold">As one body with its jaw</h3>
      <ul>
        {rows.map(({ jaw, scan, chosen }) => (
          <li key={`${jaw.id}-${scan.id}`}>
            <label className="line flex items-center gap-2 border-b py-1">
              <input
                type="checkbox"
                className="checkbox checkbox-xs"
                checked={chosen.includes(scan.id)}
                onChange={(e) =>
                  doings.set("join", jaw.id, {
                    scans: e.target.checked ? [...chosen, scan.id] : chosen.filter((id) => id !== scan.id),
                  })
                }
              />
              <span className="min-w-0 flex-1 truncate" title={scan.file}>
                {scan.file}
              </span>
              <span className="dim">
                {scan.kind} on {jaw.jaw}
              </span>
            </label>
          </li>
        ))}
      </ul>
    </section>
  );
}
