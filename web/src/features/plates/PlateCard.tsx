import { useEffect, useState } from "react";
import { Link } from "react-router";
import { CLEAR } from "../../case/useCase";
import type { Bay, Flag, Plate, PlateBody, Print, SettingOut } from "../../shared/api/client";
import { SettingsForm } from "../../shared/ui/SettingsForm";
import { STATE_WORDS, StateMark } from "../../shared/ui/StateMark";
import { useBench } from "../../store/bench";
import { thickUp } from "./Boundary";
import { Keeping } from "./Keeping";
import { layerAt, useLayer, useTable } from "./layer";
import { byHand, onPlate } from "./places";
import { stateOf } from "./state";
import { ToPrinter } from "./ToPrinter";
import type { PlateDoings } from "./usePlate";

interface Props {
  plate: Plate;
  doings: PlateDoings;
  settings: SettingOut[];
  bays: Bay[];
  prints: Print[];
  chosen: string;
  onChoose: (id: string) => void;
}

/** The open plate: what the print check says, the bodies, the settings, what it takes, and the button that prints it. */
export function PlateCard({ plate, doings, settings, bays, prints, chosen, onChoose }: Props) {
  const state = stateOf(plate);
  const boundary = thickUp(plate, useTable(plate).ends);
  return (
    <aside aria-label="Card" className="line flex w-[304px] shrink-0 flex-col border-l bg-base-100">
      <header className="line flex items-center gap-2 border-b px-4 py-2">
        <Name plate={plate} doings={doings} />
        <StateMark state={state} />
        <span className="dim text-[13px] whitespace-nowrap">{STATE_WORDS[state]}</span>
      </header>
      <div className="min-h-0 flex-1 overflow-y-auto px-4 py-2">
        {plate.trouble && <p className="py-1 text-warning">▲ {plate.trouble}</p>}
        {plate.says.map((text) => (
          <p key={text} className="py-1">
            ■ {text}
          </p>
        ))}
        <Findings plate={plate} doings={doings} />
        <Bodies plate={plate} doings={doings} chosen={chosen} onChoose={onChoose} />
        <section aria-label="Settings" className="pt-2">
          <SettingsForm
            settings={settings}
            values={Object.assign({}, ...Object.values(plate.settings))}
            whose={Object.assign({}, ...Object.values(plate.whose))}
            auto={{ thick_up_mm: boundary > 0 ? boundary.toFixed(2) : "" }}
            newer={plate.newer}
            onRenew={doings.takeRecords}
            onSet={(key, value) => doings.set(stepOf(settings, key), { [key]: value })}
            onClear={(key) => doings.set(stepOf(settings, key), { [key]: CLEAR })}
          />
        </section>
        <Keeping key={plate.id} plate={plate} doings={doings} prints={prints} />
      </div>
      <ToPrinter plate={plate} settings={settings} bays={bays} prints={prints} state={state} />
    </aside>
  );
}

function stepOf(settings: SettingOut[], key: string): string {
  return settings.find((s) => s.key === key)?.step ?? "pack";
}

function Name({ plate, doings }: { plate: Plate; doings: PlateDoings }) {
  const [name, setName] = useState(plate.name);
  useEffect(() => setName(plate.name), [plate.name]);
  return (
    <input
      aria-label="Name of the plate"
      className="min-w-0 flex-1 bg-transparent text-lg font-bold"
      placeholder={`Plate ${plate.id}`}
      value={name}
      maxLength={120}
      onChange={(e) => setName(e.target.value)}
      onBlur={() => name !== plate.name && doings.name(name)}
      onKeyDown={(e) => e.key === "Enter" && e.currentTarget.blur()}
    />
  );
}

const ORDER = { stop: 0, look: 1, note: 2 } as const;
const MARK = { stop: "✕", look: "▲", note: "■" } as const;
const FEW = 6;

function Findings({ plate, doings }: { plate: Plate; doings: PlateDoings }) {
  const [all, setAll] = useState(false);
  const found = plate.nodes.flatMap((n) => n.flags).sort((a, b) => ORDER[a.severity] - ORDER[b.severity]);
  const placed =
    plate.bodies.length > 0 && plate.nodes.filter((n) => n.step === "check").every((n) => n.state === "done");
  if (plate.bodies.length === 0)
    return <p className="dim py-1">Drag bodies from the shelf onto the plate, or let it fill itself.</p>;
  return (
    <ul aria-label="Print check" className="mb-2">
      {found.length === 0 && placed && <li className="py-1.5">■ Nothing was found: every layer is held and drains.</li>}
      {found.slice(0, all ? undefined : FEW).map((flag) => (
        <Finding key={`${flag.id} ${flag.place?.piece}`} flag={flag} plate={plate} doings={doings} />
      ))}
      {found.length > FEW && (
        <li>
          <button type="button" className="py-1 font-semibold text-primary" onClick={() => setAll(!all)}>
            {all ? "Fewer" : `${found.length - FEW} more`}
          </button>
        </li>
      )}
    </ul>
  );
}

function Finding({ flag, plate, doings }: { flag: Flag; plate: Plate; doings: PlateDoings }) {
  const pointAt = useBench((s) => s.pointAt);
  const { place, fix } = flag;
  const { ends } = useTable(plate);
  function show() {
    const point = place && onPlate(plate, place.piece, place.point_mm);
    if (!point) return;
    pointAt({ point, radius: place.radius_mm, text: flag.message, flag: flag.id });
    // The ruler goes there too, without cutting the view open.
    useLayer.setState({ layer: layerAt(ends, point[2]) });
  }
  return (
    <li className={`line flex gap-x-2 border-b py-1.5 ${fix ? "flex-wrap justify-end" : ""}`}>
      <span aria-hidden="true" className={`pt-0.5 text-[10px] ${flag.severity === "note" ? "dim" : "text-warning"}`}>
        {MARK[flag.severity]}
      </span>
      <span className={fix ? "min-w-[85%] flex-1" : "min-w-0 flex-1"}>{flag.message}</span>
      {place && (
        <button type="button" className="self-start font-semibold text-primary" onClick={show}>
          Show
        </button>
      )}
      {fix && (
        <button
          type="button"
          className="self-start font-semibold text-primary"
          onClick={() => doings.set(fix.step, fix.values)}
        >
          {fix.label}
        </button>
      )}
    </li>
  );
}

interface BodiesProps {
  plate: Plate;
  doings: PlateDoings;
  chosen: string;
  onChoose: (id: string) => void;
}

function Bodies({ plate, doings, chosen, onChoose }: BodiesProps) {
  const left = plate.bodies.filter((b) => b.home_to_plate === null);
  const packed = plate.nodes.find((n) => n.step === "pack");
  return (
    <section aria-label="Bodies">
      <h3 className="dim flex items-center text-xs font-semibold tracking-wide uppercase">
        <span className="flex-1">On this plate {plate.bodies.length}</span>
        <button
          type="button"
          className="font-semibold text-primary normal-case"
          onClick={doings.fill}
          disabled={doings.busy}
        >
          Fill it
        </button>
      </h3>
      <ul className="text-[13px]">
        {plate.bodies.map((body) => (
          <OneBody
            key={body.id}
            body={body}
            plate={plate}
            doings={doings}
            on={body.id === chosen}
            onChoose={onChoose}
          />
        ))}
      </ul>
      {left.length > 0 && packed?.state === "look" && (
        <p className="mt-1 flex gap-1">
          <button
            type="button"
            className="btn btn-sm flex-1"
            disabled={doings.busy}
            onClick={() => doings.ontoNext(left.map((b) => b.id))}
          >
            What has no room onto more plates
          </button>
          <button
            type="button"
            className="btn btn-sm"
            disabled={doings.busy}
            onClick={() => doings.off(left.map((b) => b.id))}
          >
            Take it off
          </button>
        </p>
      )}
    </section>
  );
}

interface OneBodyProps {
  body: PlateBody;
  plate: Plate;
  doings: PlateDoings;
  on: boolean;
  onChoose: (id: string) => void;
}

function OneBody({ body, plate, doings, on, onChoose }: OneBodyProps) {
  const hand = byHand(plate);
  const press = "font-semibold text-primary whitespace-nowrap";
  return (
    <li className={`line border-b py-1 ${on ? "bg-secondary" : ""}`}>
      <p className="flex items-center gap-2">
        <button
          type="button"
          aria-pressed={on}
          className="min-w-0 flex-1 truncate text-left font-semibold"
          onClick={() => onChoose(on ? "" : body.id)}
        >
          {body.name}
        </button>
        {body.home_to_plate === null && <span className="text-warning">no place</span>}
        {body.by_hand && <span className="dim">by hand</span>}
        <button
          type="button"
          aria-label={`Take ${body.name} off`}
          title="Take it off"
          onClick={() => doings.off([body.id])}
        >
          ×
        </button>
      </p>
      {body.newer && (
        <p className="flex gap-2 text-warning">
          <span className="flex-1">▲ Its case has a newer one.</span>
          <button type="button" className={press} onClick={() => doings.renew(body.id)}>
            Take that
          </button>
        </p>
      )}
      {on && body.home_to_plate !== null && (
        <p className="flex flex-wrap gap-x-3 pt-0.5">
          <button type="button" className={press} onClick={() => doings.move(body.id, 0, 0, 90)}>
            Turn by 90°
          </button>
          <button type="button" className={press} onClick={() => doings.copy(body.id, 1)}>
            One more
          </button>
          {body.case && (
            <Link
              to={`/case/${body.case}`}
              className={press}
              title="How it lies and what it stands on belong to its case"
            >
              Its case
            </Link>
          )}
          {body.by_hand ? (
            <button
              type="button"
              className={press}
              onClick={() => {
                const { [body.id]: _, ...rest } = hand;
                doings.set("pack", { places: rest });
              }}
            >
              By itself
            </button>
          ) : (
            <button
              type="button"
              className={press}
              title="It stays there, whatever comes onto the plate"
              onClick={() => doings.move(body.id, 0, 0)}
            >
              Lock it
            </button>
          )}
        </p>
      )}
    </li>
  );
}
