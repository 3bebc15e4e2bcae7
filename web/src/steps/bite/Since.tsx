import { useQuery } from "@tanstack/react-query";
import type { CaseOut, Moved } from "../../shared/api/client";
import { client, ok } from "../../shared/api/client";
import { capital } from "../../shared/format";

const TOLD = new Set(["level", "base", "plate"]);

/** What the last change that moved a jaw did to the case: told once everything is worked out again. */
export function Since({ data }: { data: CaseOut }) {
  const still = Object.keys(data.working).length > 0;
  // Asked again whenever one of the steps it speaks of has come to something else.
  const states = data.nodes.filter((n) => TOLD.has(n.step)).map((n) => `${n.id}:${n.state}`);
  const { data: moved } = useQuery({
    queryKey: ["moved", data.number, data.revision, still, states.join()],
    queryFn: () => ok(client.GET("/api/cases/{number}/moved", { params: { path: { number: data.number } } })),
    enabled: !still,
    placeholderData: (before) => before,
  });
  if (!moved || moved.jaws.length === 0) return null;
  return (
    <section aria-label="What the change did" className="line mt-1 border-t pt-1 text-[13px]">
      <h3 className="dim truncate text-xs font-semibold" title={`${moved.since}, ${moved.who}`}>
        Since: {moved.since}
      </h3>
      <ul>
        {moved.jaws.map((jaw) => (
          <li key={jaw.piece} className="py-0.5">
            <b>{capital(jaw.jaw)}</b> {wordsOf(jaw)}
          </li>
        ))}
      </ul>
    </section>
  );
}

function wordsOf(jaw: Moved["jaws"][number]): string {
  const out = [
    jaw.moved_mm < 0.001 ? "did not move" : `moved ${jaw.moved_mm.toFixed(2)} mm, ${jaw.turned_deg.toFixed(1)}°`,
  ];
  const { had_ml: had, has_ml: has } = jaw;
  if (jaw.body === "same") out.push("its body is the same");
  else if (had !== null && has !== null) out.push(`its body ${had.toFixed(1)} → ${has.toFixed(1)} ml`);
  if (jaw.plate_mm !== null)
    out.push(jaw.plate_mm < 0.005 ? "same place on the plate" : `${jaw.plate_mm.toFixed(2)} mm on the plate`);
  return out.join("; ");
}
