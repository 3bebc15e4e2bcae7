import { DoorOpen } from "lucide-react";
import { useEffect } from "react";
import { Matrix4, Vector3 } from "three";
import { create } from "zustand";
import { detailOf, goodOf, type NodeOf } from "../../case/look";
import { type Drawing, Label, Slide, type Tool, ToolPanel, toStage } from "../../stage";
import { useBench } from "../../store/bench";

type Swung = NonNullable<NonNullable<NodeOf<"swing">["good"]>["swing"]>;

// About an axis taken for the patient's; a printed one opens as far as it does.
const WIDEST_DEG = 40;
const useOpen = create<{ deg: number }>(() => ({ deg: 0 }));

/** The lower opened by so many degrees about the hinge axis, on the stage. */
function openedBy(drawing: Drawing, swung: Swung, deg: number): Matrix4 {
  const { data, view, ui } = drawing;
  const at = new Vector3(...toStage(ui, { data, view }, swung.piece, swung.at_mm));
  const [x, y, z] = swung.at_mm.map((mm, axis) => mm + swung.along[axis]);
  const along = new Vector3(...toStage(ui, { data, view }, swung.piece, [x, y, z])).sub(at).normalize();
  // With the axis to the patient's left, what lies in front of it goes down.
  return new Matrix4()
    .makeTranslation(at)
    .multiply(new Matrix4().makeRotationAxis(along, (deg * Math.PI) / 180))
    .multiply(new Matrix4().makeTranslation(at.clone().negate()));
}

const told = (n: number | null) => (n === null ? "gum" : String(n));

/** How far it is open, and what meets in which order as it closes. */
function Words(drawing: Drawing) {
  const { data, view, ui, doings } = drawing;
  const { deg } = useOpen();
  const swung = goodOf(data, "swing")?.swing;
  const asked = detailOf(data, "articulate")?.settings.swing === true;
  const hinge = goodOf(data, "articulate")?.hinge;
  const most = swung?.printed && hinge ? hinge.opens_deg : WIDEST_DEG;
  const tryMove = useBench((s) => s.tryMove);
  const moved = swung ? openedBy(drawing, swung, deg).elements.join() : "";
  const piece = swung?.piece;
  useEffect(() => {
    if (piece) tryMove({ piece, matrix: moved.split(",").map(Number) });
  }, [piece, moved, tryMove]);
  useEffect(
    () => () => {
      tryMove(null);
      useOpen.setState({ deg: 0 });
    },
    [tryMove],
  );
  if (!swung)
    return (
      <ToolPanel name="Swing">
        {asked ? (
          <p>{goodOf(data, "swing") ? "There is no bite to close into." : "Being worked out …"}</p>
        ) : (
          <button type="button" className="btn btn-sm" onClick={() => doings.set("articulate", "*", { swing: true })}>
            Find the first contacts
          </button>
        )}
      </ToolPanel>
    );
  const touched = swung.meets.filter((m) => m.open_deg >= deg - 1e-6);
  return (
    <>
      <ToolPanel name="Swing">
        <Slide
          label="Open"
          unit="°"
          value={deg}
          least={0}
          most={most}
          step={0.1}
          onSlide={(value) => useOpen.setState({ deg: value })}
        />
        <ol aria-label="What meets, in its order" className="max-h-52 overflow-y-auto">
          {swung.meets.map((m, n) => (
            <li key={`${m.point_mm}`} className="line border-b">
              <button
                type="button"
                className={`flex w-full gap-2 py-0.5 text-left hover:bg-secondary ${touched.includes(m) ? "font-semibold" : ""}`}
                onClick={() => useOpen.setState({ deg: Math.max(m.open_deg, 0) })}
              >
                <span className="dim w-4">{n + 1}</span>
                <span className="flex-1">
                  {told(m.teeth[0])} on {told(m.teeth[1])}
                </span>
                <span>{m.open_deg.toFixed(2).replace(/^-(0\.0*)$/, "$1")}°</span>
                <span className="w-16 text-right">{Math.round(1000 * m.high_mm)} µm</span>
              </button>
            </li>
          ))}
        </ol>
        {swung.meets.length === 0 && <p>The jaws never meet as they close about this axis.</p>}
      </ToolPanel>
      {deg < 1 &&
        swung.meets.slice(0, 6).map((m, n) => (
          <Label key={`${m.point_mm}`} at={toStage(ui, { data, view }, m.piece, m.point_mm)}>
            <span className="text-xs">{n + 1}</span>
          </Label>
        ))}
    </>
  );
}

export const swing: Tool = {
  id: "swing",
  title: "Swing",
  long: "Swing: open and close about the hinge axis",
  keys: "shift+x",
  icon: DoorOpen,
  hint: "Open the lower about the hinge axis. The list says what meets first as it closes, how far open that still is, and how high it stands in the bite.",
  here: ({ data }) => data.pieces.some((p) => p.jaw === "lower") && data.pieces.some((p) => p.jaw === "upper"),
  Words,
};
