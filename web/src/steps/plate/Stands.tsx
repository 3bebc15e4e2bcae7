import { detailOf, nodesOf, pieceOf } from "../../case/look";
import type { Doings } from "../../case/useCase";
import type { CaseOut } from "../../shared/api/client";
import { capital } from "../../shared/format";

const HOWS = [
  ["", "As all"],
  ["none", "Flat"],
  ["all", "On supports"],
] as const;

/** What a body of a case is called: its jaw, or the part it is. */
function called(data: CaseOut, address: string): string {
  const [, part] = address.split(".");
  return capital(part ? part.replace("-", " ") : (pieceOf(data, address)?.jaw ?? address));
}

/** Of every body by itself: flat on the plate, or on supports. */
export function Stands({ data, doings }: { data: CaseOut; doings: Doings }) {
  const stands = (detailOf(data, "plate")?.settings.stands ?? {}) as Record<string, string>;
  const bodies = nodesOf(data, "supports").map((n) => n.piece);
  if (bodies.length === 0) return null;
  return (
    <ul aria-label="Stands" className="mt-2 text-[13px]">
      {bodies.map((address) => (
        <li key={address} className="line flex items-center gap-2 border-b py-1">
          <span className="flex-1">{called(data, address)}</span>
          <select
            aria-label={`${called(data, address)} stands`}
            className="select select-xs w-32"
            disabled={doings.busy}
            value={stands[address] ?? ""}
            onChange={(e) => {
              const { [address]: _, ...rest } = stands;
              doings.set("plate", "*", { stands: e.target.value ? { ...rest, [address]: e.target.value } : rest });
            }}
          >
            {HOWS.map(([value, words]) => (
              <option key={value} value={value}>
                {words}
              </option>
            ))}
          </select>
        </li>
      ))}
    </ul>
  );
}
