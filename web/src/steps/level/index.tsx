import { Vector3 } from "three";
import { detailOf, goodOf, pieceOf } from "../../case/look";
import { CLEAR } from "../../case/useCase";
import { signed } from "../../shared/format";
import { useSame } from "../../shared/useSame";
import { type At, benchPlace, type CardProps, type Drawing, Label, type StepUi, scansScene } from "../../stage";
import type { Point } from "../../store/bench";
import { axes } from "./Axes";
import { Glass } from "./Glass";
import { threeMarks } from "./threeMarks";

const LABELS_MM = 13;

/** Tips are kept in the home of the jaw they were found on; both jaws share a bench. */
function tipsOf({ data }: At): Point[] {
  const good = goodOf(data, "level");
  const leader = good?.auto && pieceOf(data, good.auto.on);
  if (!leader) return [];
  const matrix = benchPlace(data, leader);
  return (good.tips ?? []).map((p) => {
    const v = new Vector3(...p).applyMatrix4(matrix);
    return [v.x, v.y, v.z];
  });
}

function Draws(at: Drawing) {
  const tips = useSame(tipsOf(at));
  return <Glass tips={tips} />;
}

/** How far tips stand off the plane; while a tool is in the hand its own words stand there. */
function Words(at: Drawing) {
  if (at.view.tool?.at === "level") return null;
  return spaced(tipsOf(at), LABELS_MM).map((p) => (
    <Label key={p.join()} at={p}>
      <span className="text-[11px]">{signed(p[2], 2)} mm</span>
    </Label>
  ));
}

/** Of many points those that stand apart, so that words beside them do not lie on each other. */
function spaced(points: Point[], apart: number): Point[] {
  const out: Point[] = [];
  for (const p of points) if (out.every((q) => Math.hypot(p[0] - q[0], p[1] - q[1], p[2] - q[2]) >= apart)) out.push(p);
  return out;
}

function Card({ data, doings }: CardProps) {
  if (!detailOf(data, "level")?.settings.marks) return null;
  return (
    <p className="flex items-center justify-between py-1">
      Levelled by three marks
      <button
        type="button"
        className="font-semibold text-primary"
        onClick={() => doings.set("level", "*", { marks: CLEAR })}
      >
        Take them back
      </button>
    </p>
  );
}

const level: StepUi = { name: "level", tools: [threeMarks, axes], Draws, Words, Card };
level.scene = scansScene(level);

export default level;
