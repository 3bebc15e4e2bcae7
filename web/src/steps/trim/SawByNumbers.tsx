import { Matrix4, Vector3 } from "three";
import { create } from "zustand";
import { pieceOf } from "../../case/look";
import { benchPlace, type Drawing } from "../../stage";
import type { Point } from "../../store/bench";
import { useMarking } from "./markings";

/** Which side goes: the plane's place on the bench at so many mm, and the way that goes; up: to the tips, along +z of the bench or against it. */
const SIDES: { side: string; words: string; at: (mm: number, up: number) => { point: Point; towards: Point } }[] = [
  { side: "right", words: "right of … from the midline", at: (mm) => ({ point: [-mm, 0, 0], towards: [-1, 0, 0] }) },
  { side: "left", words: "left of … from the midline", at: (mm) => ({ point: [mm, 0, 0], towards: [1, 0, 0] }) },
  { side: "behind", words: "behind … from the incisors", at: (mm) => ({ point: [0, mm, 0], towards: [0, 1, 0] }) },
  {
    side: "before",
    words: "in front of … from the incisors",
    at: (mm) => ({ point: [0, mm, 0], towards: [0, -1, 0] }),
  },
  {
    side: "deeper",
    words: "deeper than … from the plane",
    at: (mm, up) => ({ point: [0, 0, -up * mm], towards: [0, 0, -up] }),
  },
  {
    side: "higher",
    words: "nearer than … to the plane",
    at: (mm, up) => ({ point: [0, 0, -up * mm], towards: [0, 0, up] }),
  },
];

const useNumbers = create<{ side: string; mm: string }>(() => ({ side: "behind", mm: "40" }));

/** A saw square to the bench, so many mm from the midline, the incisors or the occlusal plane. */
export function SawByNumbers({ data, view, doings }: Drawing) {
  const { side, mm } = useNumbers();
  const piece = pieceOf(data, view.piece ?? "");
  const value = Number(mm.replace(",", "."));
  const good = mm.trim() !== "" && Number.isFinite(value) && Math.abs(value) <= 100;

  function saw() {
    const found = SIDES.find((s) => s.side === side);
    if (!piece || !found || !good) return;
    const { point, towards } = found.at(value, piece.jaw === "upper" ? -1 : 1);
    const home = new Matrix4().copy(benchPlace(data, piece)).invert();
    const at = new Vector3(...point).applyMatrix4(home);
    const way = new Vector3(...towards).transformDirection(home);
    doings.entry("marked", piece.id, ["marks"], "", {
      kind: "saw",
      points_mm: [[at.x, at.y, at.z]],
      towards: [way.x, way.y, way.z],
      adds: useMarking.getState().adds,
    });
  }

  return (
    <form
      className="flex flex-col gap-1"
      onSubmit={(event) => {
        event.preventDefault();
        saw();
      }}
    >
      <select
        aria-label="Saw by numbers"
        className="select select-xs w-full"
        value={side}
        onChange={(event) => useNumbers.setState({ side: event.target.value })}
      >
        {SIDES.map((s) => (
          <option key={s.side} value={s.side}>
            {s.words}
          </option>
        ))}
      </select>
      <div className="flex items-center gap-1">
        <input
          aria-label="How far, in mm"
          inputMode="decimal"
          className={`input input-xs min-w-0 grow text-right ${good ? "" : "border-warning"}`}
          value={mm}
          onChange={(event) => useNumbers.setState({ mm: event.target.value })}
          onKeyDown={(event) => event.key === "Escape" && event.currentTarget.blur()}
        />
        mm
        <button type="submit" disabled={!good || !piece} className="btn btn-xs">
          saw by numbers
        </button>
      </div>
    </form>
  );
}
