import { DoorOpen } from "lucide-react";
import { useEffect } from "react";
import { Matrix4, Vector3 } from "three";
import { create } from "zustand";
import { detailOf, goodOf, type NodeOf, nodeOf } from "../../case/look";
import type { CaseOut } from "../../shared/api/client";
import { type Drawing, Label, Slide, type Tool, ToolPanel, toStage } from "../../stage";
import { fromRows } from "../../stage/place";
import { useBench } from "../../store/bench";

type Swung = NonNullable<NonNullable<NodeOf<"swing">["good"]>["swing"]>;

// About an axis taken for the patient's; a printed one opens as far as it does.
const WIDEST_DEG = 40;
type Way = "open" | "forward" | "left" | "right";
const WAYS: [Way, string][] = [
  ["open", "Open"],
  ["forward", "Forward"],
  ["left", "Left"],
  ["right", "Right"],
];
const CLOSED = { deg: 0, way: "open" as Way, by: 0.5 };
const useOpen = create<{ deg: number; way: Way; by: number }>(() => CLOSED);

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

/** Moves the lower on the stage as long as this is there. */
function useMoved(piece: string | undefined, matrix: Matrix4 | null) {
  const tryMove = useBench((s) => s.tryMove);
  const moved = matrix?.elements.join() ?? "";
  useEffect(() => {
    if (piece && moved) tryMove({ piece, matrix: moved.split(",").map(Number) });
  }, [piece, moved, tryMove]);
  useEffect(() => () => tryMove(null), [tryMove]);
}

/** Which way the lower moves, and what touches there. */
function Words(drawing: Drawing) {
  const { way } = useOpen();
  useEffect(() => () => useOpen.setState(CLOSED), []);
  return (
    <>
      <ToolPanel name="Swing">
        <div className="join mb-1">
          {WAYS.map(([id, title]) => (
            <button
              key={id}
              type="button"
              aria-pressed={way === id}
              className={`btn join-item btn-xs ${way === id ? "btn-primary" : ""}`}
              onClick={() => useOpen.setState({ way: id })}
            >
              {title}
            </button>
          ))}
        </div>
        {way === "open" ? <Opened drawing={drawing} /> : <Glides drawing={drawing} way={way} />}
      </ToolPanel>
      <Numbers drawing={drawing} />
    </>
  );
}

/** The numbers of the list, where the jaws touch. */
function Numbers({ drawing }: { drawing: Drawing }) {
  const { data, view, ui } = drawing;
  const { way, deg, by } = useOpen();
  const swung = deg < 1 ? goodOf(data, "swing")?.swing?.meets.slice(0, 6) : [];
  const meets = (way === "open" ? swung : poseOf(data, way, by)?.meets) ?? [];
  return meets.map((m, n) => (
    <Label key={`${m.point_mm}`} at={toStage(ui, { data, view }, m.piece, m.point_mm)}>
      <span className="text-xs">{n + 1}</span>
    </Label>
  ));
}

function posesOf(data: CaseOut, way: Way) {
  return goodOf(data, "glide")?.glide?.poses.filter((p) => p.way === way) ?? [];
}

function poseOf(data: CaseOut, way: Way, by: number) {
  const poses = posesOf(data, way);
  return poses.find((p) => Math.abs(p.by_mm - by) < 1e-6) ?? poses[0];
}

function Opened({ drawing }: { drawing: Drawing }) {
  const { data } = drawing;
  const { deg } = useOpen();
  const swung = goodOf(data, "swing")?.swing;
  const hinge = goodOf(data, "articulate")?.hinge;
  const most = swung?.printed && hinge ? hinge.opens_deg : WIDEST_DEG;
  useMoved(swung?.piece, swung ? openedBy(drawing, swung, deg) : null);
  if (!swung) return <Asks drawing={drawing} setting="swing" />;
  const touched = swung.meets.filter((m) => m.open_deg >= deg - 1e-6);
  return (
    <>
      <Slide
        label="Open"
        unit="°"
        value={deg}
        least={0}
        most={most}
        step={0.1}
        onSlide={(value) => useOpen.setState({ deg: value })}
      />
      <Meets
        label="What meets, in its order"
        meets={swung.meets}
        strong={(m) => touched.includes(m)}
        said={(m) => `${m.open_deg.toFixed(2).replace(/^-(0\.0*)$/, "$1")}°`}
        onPress={(m) => useOpen.setState({ deg: Math.max(m.open_deg, 0) })}
      />
      {swung.meets.length === 0 && <p>The jaws never meet as they close about this axis.</p>}
    </>
  );
}

/** Forward and to the sides, from pose to pose. */
function Glides({ drawing, way }: { drawing: Drawing; way: Way }) {
  const { data } = drawing;
  const { by } = useOpen();
  const glided = goodOf(data, "glide")?.glide;
  const poses = posesOf(data, way);
  const pose = poseOf(data, way, by);
  useMoved(glided?.piece, pose ? fromRows(pose.matrix) : null);
  if (!glided) return <Asks drawing={drawing} setting="glide" />;
  if (!pose) return <p>The jaws do not meet that way.</p>;
  return (
    <>
      <Slide
        label="Condyles"
        unit="mm"
        value={pose.by_mm}
        least={poses[0]?.by_mm ?? 0}
        most={poses[poses.length - 1]?.by_mm ?? 0}
        step={0.5}
        onSlide={(value) => useOpen.setState({ by: value })}
      />
      <Meets label="What touches" meets={pose.meets} strong={(m) => m === pose.meets[0]} said={() => ""} />
    </>
  );
}

/** The button that has it worked out; then that it is being, or that there is nothing. */
function Asks({ drawing, setting }: { drawing: Drawing; setting: "swing" | "glide" }) {
  const asked = detailOf(drawing.data, "articulate")?.settings[setting] === true;
  // An earlier result may have had no bite: only what belongs to the case as it is now says so.
  const state = nodeOf(drawing.data, setting)?.state ?? "todo";
  if (asked)
    return <p>{state === "done" || state === "look" ? "There is no bite to close into." : "Being worked out …"}</p>;
  return (
    <button
      type="button"
      className="btn btn-sm"
      onClick={() =>
        drawing.doings.set("articulate", "*", setting === "glide" ? { glide: true, swing: true } : { swing: true })
      }
    >
      {setting === "swing" ? "Find the first contacts" : "Find what touches on average paths"}
    </button>
  );
}

type Met = Swung["meets"][number];

function Meets(props: {
  label: string;
  meets: Met[];
  strong: (m: Met) => boolean;
  said: (m: Met) => string;
  onPress?: (m: Met) => void;
}) {
  return (
    <ol aria-label={props.label} className="max-h-52 overflow-y-auto">
      {props.meets.map((m, n) => (
        <li key={`${m.point_mm}`} className="line border-b">
          <button
            type="button"
            className={`flex w-full gap-2 py-0.5 text-left hover:bg-secondary ${props.strong(m) ? "font-semibold" : ""}`}
            onClick={() => props.onPress?.(m)}
          >
            <span className="dim w-4">{n + 1}</span>
            <span className="flex-1">
              {told(m.teeth[0])} on {told(m.teeth[1])}
            </span>
            <span>{props.said(m)}</span>
            <span className="w-16 text-right">{Math.round(1000 * m.high_mm)} µm</span>
          </button>
        </li>
      ))}
    </ol>
  );
}

export const swing: Tool = {
  id: "swing",
  title: "Swing",
  long: "Swing: open, close, forward and sideways",
  keys: "shift+x",
  icon: DoorOpen,
  hint: "Open the lower about the hinge axis, or move it forward and sideways. The list says what meets first, and how high or how far off the rest is.",
  here: ({ data }) => data.pieces.some((p) => p.jaw === "lower") && data.pieces.some((p) => p.jaw === "upper"),
  Words,
};
