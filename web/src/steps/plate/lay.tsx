import { FlipVertical2 } from "lucide-react";
import { detailOf, pieceOf } from "../../case/look";
import type { Doings } from "../../case/useCase";
import type { CaseOut } from "../../shared/api/client";
import { capital } from "../../shared/format";
import type { Tool } from "../../stage";

type Laid = Record<string, { at: [number, number, number] }>;

function laidOf(data: CaseOut): Laid {
  return (detailOf(data, "plate")?.settings.lay ?? {}) as Laid;
}

export const lay: Tool = {
  id: "lay",
  title: "Lay",
  long: "Lay: choose the face of a body that lies on the plate",
  keys: "shift+l",
  icon: FlipVertical2,
  hint: "Press on the face that shall lie on the plate.",
  picks: true,
  onPick: ({ data, doings }, shown, home) => {
    if (shown.role !== "body") return;
    const [x, y, z] = home.map((mm) => Math.round(mm * 100) / 100);
    doings.set("plate", "*", { lay: { ...laidOf(data), [shown.piece]: { at: [x, y, z] } } });
  },
};

/** Which bodies do not lie on their base, and the way back. */
export function Lying({ data, doings }: { data: CaseOut; doings: Doings }) {
  const laid = laidOf(data);
  return Object.keys(laid).map((piece) => (
    <p key={piece} className="line flex gap-2 border-b py-1.5">
      <span className="flex-1">{capital(pieceOf(data, piece)?.jaw ?? piece)} lies on a face that was chosen.</span>
      <button
        type="button"
        className="font-semibold text-primary"
        onClick={() => {
          const { [piece]: _, ...rest } = laid;
          doings.set("plate", "*", { lay: rest });
        }}
      >
        On its base
      </button>
    </p>
  ));
}
