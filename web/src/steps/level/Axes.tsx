import { type ThreeEvent, useThree } from "@react-three/fiber";
import { Rotate3d } from "lucide-react";
import { useEffect, useRef, useState } from "react";
import { Plane, Vector3 } from "three";
import { create } from "zustand";
import { detailOf } from "../../case/look";
import { BALL, Drag, type Drawing, type Hand, handMatrix, ink, Label, Line, type Tool, useSteps } from "../../stage";
import { type Point, useBench } from "../../store/bench";

type Angle = "tilt_deg" | "roll_deg" | "turn_deg";

interface Grip {
  at: Point;
  /** Which way the grip is pulled for a plus, and how far it stands from the axis. */
  way: Point;
  lever: number;
  words: (deg: number) => string;
}

const far = (deg: number, lever: number) => `${Math.abs(lever * Math.tan((deg * Math.PI) / 180)).toFixed(1)} mm`;

const GRIPS: Record<Angle, Grip> = {
  tilt_deg: {
    at: [0, 60, 0],
    way: [0, 0, 1],
    lever: 60,
    words: (d) => `Tilt: the back ${d < 0 ? "sinks" : "rises"}, ${far(d, 60)} there`,
  },
  roll_deg: {
    at: [44, 24, 0],
    way: [0, 0, -1],
    lever: 44,
    words: (d) => `Roll: the patient's left ${d < 0 ? "rises" : "sinks"}, ${far(d, 44)} there`,
  },
  turn_deg: {
    at: [0, -30, 0],
    way: [1, 0, 0],
    lever: 30,
    words: (d) => `Turn: the front goes to the patient's ${d < 0 ? "right" : "left"}`,
  },
};
const KEYS: Record<string, [Angle, number]> = {
  arrowup: ["tilt_deg", 1],
  arrowdown: ["tilt_deg", -1],
  arrowright: ["roll_deg", 1],
  arrowleft: ["roll_deg", -1],
  pageup: ["turn_deg", 1],
  pagedown: ["turn_deg", -1],
};

/** Which grip is spoken of, and its angle: words stand outside the canvas. */
const useGrip = create<{ grip: Angle | null; deg: number }>(() => ({ grip: null, deg: 0 }));

/** Three grips on the glass, each of which does one thing, in steps of a tenth of a degree. */
function Draws({ data, doings, hold }: Drawing) {
  const now = detailOf(data, "level")?.settings;
  return now ? <Grips now={now} onSet={(values) => doings.set("level", "*", { ...values })} onHold={hold} /> : null;
}

function Grips({
  now,
  onSet,
  onHold,
}: {
  now: Hand;
  onSet: (values: Partial<Hand>) => void;
  onHold: (held: boolean) => void;
}) {
  const [tried, setTried] = useState<Partial<Hand>>({});
  const rest = useRef<ReturnType<typeof setTimeout> | undefined>(undefined);
  const hand = { ...now, ...tried };

  function tryAngle(which: Angle, deg: number) {
    const rounded = Math.round(Math.min(Math.max(deg, -180), 180) * 10) / 10;
    const next = { ...tried, [which]: rounded };
    setTried(next);
    useGrip.setState({ grip: which, deg: rounded });
    const step = handMatrix({ ...now, ...next }).multiply(handMatrix(now).invert());
    useBench.getState().tryMove({ piece: "*", matrix: step.toArray() });
    return next;
  }

  function keep(values: Partial<Hand>) {
    onSet(values);
    setTried({});
  }

  useSteps(KEYS, true, (which, steps) => {
    const next = tryAngle(which, hand[which] + steps);
    clearTimeout(rest.current);
    rest.current = setTimeout(() => keep(next), 500);
  });
  useEffect(() => () => useGrip.setState({ grip: null }), []);

  return (
    <>
      {(Object.keys(GRIPS) as Angle[]).map((which) => (
        <GripBall
          key={which}
          which={which}
          deg={hand[which]}
          onPull={(deg) => tryAngle(which, deg)}
          onLast={keep}
          onHold={onHold}
        />
      ))}
    </>
  );
}

function GripBall({
  which,
  deg,
  onPull,
  onLast,
  onHold,
}: {
  which: Angle;
  deg: number;
  onPull: (deg: number) => Partial<Hand>;
  onLast: (values: Partial<Hand>) => void;
  onHold: (held: boolean) => void;
}) {
  const grip = GRIPS[which];
  const camera = useThree((s) => s.camera);
  const held = useRef<{ from: number; deg: number; last: Partial<Hand> | null; drag: Drag } | null>(null);

  /** How far along its way the pointer is, mm, on the plane through it that faces the eye. */
  function along(event: ThreeEvent<PointerEvent>): number | null {
    const [at, way] = [new Vector3(...grip.at), new Vector3(...grip.way)];
    const eye = camera.position.clone().sub(at);
    const normal = eye.addScaledVector(way, -eye.dot(way)).normalize();
    const hit = event.ray.intersectPlane(new Plane().setFromNormalAndCoplanarPoint(normal, at), new Vector3());
    return hit ? hit.sub(at).dot(way) : null;
  }

  function pull(event: ThreeEvent<PointerEvent>) {
    if (!held.current) return;
    event.stopPropagation();
    const now = along(event);
    if (now === null || !held.current.drag.moved(event)) return;
    const turned = (Math.atan((now - held.current.from) / grip.lever) * 180) / Math.PI;
    held.current.last = onPull(held.current.deg + turned);
  }

  return (
    <>
      <Line points={[[0, 24, 0], grip.at]} color="#17282b" />
      <mesh
        name={`grip-${which}`}
        position={grip.at}
        renderOrder={5}
        material={ink("#a9852f")}
        dispose={null}
        geometry={BALL}
        scale={2.6}
        onPointerOver={() => useGrip.setState({ grip: which, deg })}
        onPointerOut={() => !held.current && useGrip.setState({ grip: null })}
        onPointerDown={(e) => {
          const from = along(e);
          if (from === null) return;
          e.stopPropagation();
          (e.target as Element).setPointerCapture(e.pointerId);
          held.current = { from, deg, last: null, drag: new Drag(e) };
          onHold(true);
        }}
        onPointerMove={pull}
        onPointerUp={(e) => {
          pull(e);
          if (held.current?.last) {
            if (held.current.drag.counts(e)) onLast(held.current.last);
            else onPull(held.current.deg);
          }
          held.current = null;
          onHold(false);
        }}
      />
    </>
  );
}

/** What each grip does, and what it has done so far. */
function Words() {
  const { grip, deg } = useGrip();
  return (Object.keys(GRIPS) as Angle[])
    .filter((which) => !grip || which === grip)
    .map((which) => (
      <Label key={which} at={GRIPS[which].at}>
        <span data-testid={`grip-${which}`} className="text-xs">
          {grip ? `${GRIPS[which].words(deg)}, ${deg > 0 ? "+" : ""}${deg.toFixed(1)}°` : NAMES[which]}
        </span>
      </Label>
    ));
}

const NAMES: Record<Angle, string> = {
  tilt_deg: "Tilt: pull the back up or down",
  roll_deg: "Roll: pull the patient's left up or down",
  turn_deg: "Turn: pull the front to the side",
};

export const axes: Tool = {
  id: "axes",
  title: "Axes",
  long: "Adjust the level by its axes",
  keys: "x",
  icon: Rotate3d,
  hint: "Pull a ball on the glass: each does one thing. Keys: up and down tilt, left and right roll, Page Up and Down turn, by 1°, with Shift 10°.",
  Draws,
  Words,
};
