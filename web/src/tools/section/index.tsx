import { SquareSplitHorizontal } from "lucide-react";
import { useMemo } from "react";
import { create } from "zustand";
import type { CaseOut } from "../../shared/api/client";
import {
  type At,
  type Cut,
  type Drawing,
  Label,
  type Probed,
  PulledPlane,
  type Shown,
  sectionAlong,
  type Tool,
  unionOf,
  useSteps,
} from "../../stage";
import { type Section, useBench } from "../../store/bench";

const NO_CUT: Cut = { on: false, point: [0, 0, 0], keep: [0, 0, 1] };
const COLOUR = "#2c5f78";
const KEYS: Record<string, ["mm" | "tilt", number]> = {
  arrowup: ["mm", 1],
  arrowdown: ["mm", -1],
  arrowleft: ["tilt", -1],
  arrowright: ["tilt", 1],
};

const useProbe = create<{ probed: Probed | null }>(() => ({ probed: null }));

/** The plane of the section in the home of a mesh: what lies on the eye's usual side of it is taken away. */
function cuts({ view }: At, shown: Shown): [Cut, Cut] {
  const { mm, other } = view.section;
  const back = shown.matrix.clone().invert();
  const along = sectionAlong(view.section);
  const point = along.clone().multiplyScalar(mm).applyMatrix4(back);
  const keep = along
    .clone()
    .multiplyScalar(other ? 1 : -1)
    .transformDirection(back);
  return [{ on: true, away: true, point: point.toArray(), keep: keep.toArray() }, NO_CUT];
}

function next(section: Section): Section {
  const axis = ((section.axis + 1) % 3) as Section["axis"];
  return { ...section, axis, tilt: 0, lean: 0, mm: 0 };
}

function Draws({ view, bounds, hold }: Drawing) {
  const { section } = view;
  const { axis, mm } = section;
  const cutAt = useBench((s) => s.cutAt);
  const place = useMemo(() => {
    const { centre, size } = unionOf(Object.values(bounds));
    const along = sectionAlong(section);
    const middle = centre.clone().addScaledVector(along, mm - centre.dot(along));
    const wide: [number, number] = [
      [size.z + 12, size.y + 12],
      [size.x + 12, size.z + 12],
      [size.x + 12, size.y + 12],
    ][axis] as [number, number];
    return { along, middle, wide };
  }, [section, axis, mm, bounds]);
  return (
    <PulledPlane
      name="section"
      middle={place.middle}
      along={place.along}
      size={place.wide}
      colour={COLOUR}
      mm={mm}
      onPull={(to) => cutAt({ ...section, mm: to })}
      onHold={hold}
    />
  );
}

function Words({ view }: Drawing) {
  const probed = useProbe((s) => s.probed);
  const cutAt = useBench((s) => s.cutAt);
  const { section } = view;
  return (
    <>
      {probed && (
        <Label at={probed.at}>
          <span data-testid="thickness">{probed.mm.toFixed(2)} mm thick</span>
        </Label>
      )}
      <div className="line pointer-events-auto absolute top-14 right-3 flex items-center gap-2 rounded-lg border bg-base-100 px-3 py-1.5 shadow-sm">
        <span data-testid="section">
          Section {["across", "from the front", "level"][section.axis]}, {section.mm.toFixed(1)} mm
        </span>
        {(["tilt", "lean"] as const).map((name) => (
          <label key={name} className="flex items-center gap-1 text-xs">
            {name}
            <input
              type="number"
              min={-89}
              max={89}
              aria-label={`Section, ${name} in degrees`}
              className="input input-xs w-14"
              value={section[name]}
              onChange={(e) => cutAt({ ...section, [name]: within(e.target.valueAsNumber) })}
            />
            °
          </label>
        ))}
        <button type="button" className="btn btn-xs" onClick={() => cutAt(next(section))}>
          Turn it
        </button>
        <button type="button" className="btn btn-xs" onClick={() => cutAt({ ...section, other: !section.other })}>
          Other half
        </button>
      </div>
    </>
  );
}

const within = (degrees: number) => (Number.isFinite(degrees) ? Math.min(Math.max(Math.round(degrees), -89), 89) : 0);

/** Half a millimetre a press, with Shift five; a degree, with Shift ten. */
function Works({ inHand }: { data: CaseOut; inHand: boolean }) {
  useSteps(KEYS, inHand, (what, steps) => {
    const { section, cutAt } = useBench.getState();
    if (what === "tilt") cutAt({ ...section, tilt: within(section.tilt + steps) });
    else cutAt({ ...section, mm: Math.round((section.mm + steps / 2) * 100) / 100 });
  });
  return null;
}

const section: Tool = {
  id: "section",
  title: "Section",
  long: "Section: cut through what stands here and see how thick it is",
  keys: "y",
  icon: SquareSplitHorizontal,
  hint: "Pull the plane, or step it with the arrow keys: up and down move it, left and right tilt it. Over a surface or a cut face the thickness of the body there stands beside it.",
  cuts,
  onProbe: (probed) => useProbe.setState({ probed }),
  Draws,
  Words,
  Works,
  drop: () => useProbe.setState({ probed: null }),
};

export default section;
