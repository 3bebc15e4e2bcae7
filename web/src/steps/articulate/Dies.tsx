import { Vector3 } from "three";
import { detailOf, goodOf } from "../../case/look";
import { type Drawing, fromStage, Label, Line, PulledBall, toStage } from "../../stage";
import type { Point } from "../../store/bench";
import { type Die, diesOf, jawsOf, sayOf, takenOf, withWall } from "./dies";
import { useLifted } from "./lift";

const COLOUR = "#2f7d8c";
// The ball that turns the way stands so far over the crown.
const OVER_MM = 9;
// Those that pull the walls, in a row close over the crowns.
const WALL_OVER_MM = 1.5;

/** Round every head and socket a line; over every crown the way it comes out, pulled by its ball. */
export function DieHandles(drawing: Drawing) {
  const lifted = useLifted((s) => s.mm);
  return jawsOf(drawing.data).flatMap((piece) =>
    diesOf(drawing.data, piece.id).map((die) => (
      <Handle key={`${piece.id} ${die.part}`} drawing={drawing} piece={piece.id} die={die} lifted={lifted} />
    )),
  );
}

/** A place on a die's way, so far over where its head begins, on the stage. */
function along({ data, view, ui }: Drawing, piece: string, die: Die, mm: number): Point {
  const [x, y, z] = die.at_mm.map((at, axis) => at + mm * (die.way[axis] ?? 0));
  return toStage(ui, { data, view }, piece, [x ?? 0, y ?? 0, z ?? 0]);
}

function Handle({ drawing, piece, die, lifted }: { drawing: Drawing; piece: string; die: Die; lifted: number }) {
  const { data, view, ui, doings } = drawing;
  const foot = along(drawing, piece, die, 0);
  const ring = (points: Point[]) => {
    const on = points.map((p) => toStage(ui, { data, view }, piece, p));
    return [...on, ...on.slice(0, 1)];
  };
  return (
    <>
      <Line points={ring(die.rim)} color={COLOUR} />
      {lifted > 0 ? (
        <Line points={ring(die.socket)} color={COLOUR} />
      ) : (
        die.walls.map((wall) => <WallHandle key={wall.fdi} drawing={drawing} piece={piece} die={die} wall={wall} />)
      )}
      <PulledBall
        name={`way-${die.fdi}`}
        at={along(drawing, piece, die, die.over_mm + OVER_MM + lifted)}
        colour={COLOUR}
        radius={0.9}
        along="level"
        onHold={drawing.hold}
        onPut={(at) => {
          const home = fromStage(ui, { data, view }, piece, at);
          if (!home) return;
          const way = new Vector3(...home).sub(new Vector3(...die.at_mm)).normalize();
          const round = (x: number) => Math.round(x * 1e5) / 1e5;
          sayOf(doings, piece, die.fdi, { way: [round(way.x), round(way.y), round(way.z)] });
        }}
      >
        {(at) => <Line points={[foot, at]} color={COLOUR} />}
      </PulledBall>
    </>
  );
}

type Wall = Die["walls"][number];

/** Over a wall a ball: pulled, the wall goes with it towards the other tooth or away from it. */
function WallHandle({ drawing, piece, die, wall }: { drawing: Drawing; piece: string; die: Die; wall: Wall }) {
  const { data, view, ui, doings } = drawing;
  const over = (mm: number): Point =>
    toStage(ui, { data, view }, piece, [
      wall.at_mm[0] + mm * die.way[0],
      wall.at_mm[1] + mm * die.way[1],
      wall.at_mm[2] + mm * die.way[2],
    ]);
  const ball = over(WALL_OVER_MM);
  const foot = over(-die.over_mm);
  return (
    <PulledBall
      name={`wall-${die.fdi}-${wall.fdi}`}
      at={ball}
      colour={COLOUR}
      radius={0.55}
      along="level"
      onHold={drawing.hold}
      onPut={(at) => {
        const [to, from] = [at, ball].map((place) => fromStage(ui, { data, view }, piece, place));
        if (!to || !from) return;
        const mm = new Vector3(...to).sub(new Vector3(...from)).dot(new Vector3(...wall.towards));
        const said = Object.values(takenOf(data, piece)).find((t) => t.fdi === die.fdi)?.walls ?? {};
        sayOf(doings, piece, die.fdi, { walls: withWall(said, wall.fdi, wall.moved_mm + mm) });
      }}
    >
      {([x, y, z]) => {
        const way = [x - ball[0], y - ball[1], z - ball[2]] as const;
        return (
          <Line
            points={[
              [foot[0] + way[0], foot[1] + way[1], foot[2] + way[2]],
              [x, y, z],
            ]}
            color={COLOUR}
          />
        );
      }}
    </PulledBall>
  );
}

/** The number of every die over it; where it opens a contact, how far. */
export function DieWords(drawing: Drawing) {
  const { data, view, ui } = drawing;
  const lifted = useLifted((s) => s.mm);
  const free = Number(detailOf(data, "dies", jawsOf(data)[0]?.id ?? "")?.settings.contact_mm ?? 0);
  return jawsOf(data).flatMap((piece) =>
    (goodOf(data, "dies", piece.id)?.dies ?? []).flatMap((die) => [
      <Label key={`${piece.id} ${die.fdi}`} at={along(drawing, piece.id, die, die.over_mm + OVER_MM + lifted)}>
        <span data-testid={`die-${die.fdi}`} className="text-xs">
          {die.fdi}
          {die.lean_deg >= 0.05 && <span className="dim"> {die.lean_deg.toFixed(1)}°</span>}
        </span>
      </Label>,
      ...die.opens
        .filter((o) => o.mm > free)
        .map((o) => (
          <Label key={`${piece.id} ${die.fdi} ${o.fdi}`} at={toStage(ui, { data, view }, piece.id, o.at_mm)}>
            <span className="text-xs">
              {o.fdi} −{o.mm.toFixed(2)} mm
            </span>
          </Label>
        )),
    ]),
  );
}
