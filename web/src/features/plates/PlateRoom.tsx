import { useMutation, useQueryClient } from "@tanstack/react-query";
import { Redo2, Undo2 } from "lucide-react";
import { useEffect, useRef, useState } from "react";
import { Link, useNavigate, useParams } from "react-router";
import { useBays } from "../../case/bays";
import { client, okPlate, type Plate } from "../../shared/api/client";
import { Command } from "../../shared/ui/Command";
import { TopBar } from "../../shared/ui/TopBar";
import { useBench } from "../../store/bench";
import { sayError } from "../../store/notices";
import { Bays } from "./Bays";
import { LayerPicture } from "./LayerPicture";
import { LayerRuler } from "./LayerRuler";
import { useLayer } from "./layer";
import { PlateCard } from "./PlateCard";
import { PlateStage } from "./PlateStage";
import { DRAGGED, Shelf } from "./Shelf";
import { type PlateDoings, usePlate, usePlateDoings, useRoom } from "./usePlate";

/** Printers and their plates: what is ready is laid on one, looked through, and printed. */
export function PlateRoom() {
  const { id: asked } = useParams();
  const navigate = useNavigate();
  const queries = useQueryClient();
  const { plates, shelf, settings } = useRoom();
  const list = plates.data ?? [];
  // An address that is no plate's opens the newest.
  const id = /^\d+$/.test(asked ?? "") ? Number(asked) : (list[0]?.id ?? 0);
  const found = usePlate(id);
  const plate = id > 0 ? found.data : undefined;
  const doings = usePlateDoings(plate, found.keep);
  const { bays, prints } = useBays();
  const own = prints.filter((p) => p.plate === id);
  const bay = String(plate?.settings.pack?.printer ?? "");
  const begin = useMutation({
    mutationFn: (body: { printer: string; filled: boolean }) =>
      okPlate(client.POST("/api/plates", { body: { name: "", ...body } })),
    onError: sayError,
    onSuccess: (made) => {
      queries.setQueryData(["plate", made.id], made);
      queries.invalidateQueries({ queryKey: ["plates"] });
      queries.invalidateQueries({ queryKey: ["shelf"] });
      navigate(`/plates/${made.id}`);
    },
  });
  const reset = useBench((s) => s.reset);
  useEffect(() => reset, [reset]);
  // biome-ignore lint/correctness/useExhaustiveDependencies: another plate begins at its first layer
  useEffect(() => {
    useLayer.setState({ layer: 0, on: false, playing: false });
    useBench.getState().pointAt(null);
  }, [id]);
  /** The newest plate of a printer; one is begun where it has none. */
  function open(printer: string) {
    const known = list.find((p) => p.bay === printer);
    if (known) navigate(`/plates/${known.id}`);
    else begin.mutate({ printer, filled: false });
  }
  return (
    <div className="flex h-full flex-col bg-base-200">
      <TopBar>
        {plate && (
          <>
            <Undo plate={plate} doings={doings} />
            <nav aria-label="Plates" className="flex min-w-0 gap-1 overflow-x-auto">
              {list.slice(0, 12).map((p) => (
                <button
                  key={p.id}
                  type="button"
                  aria-pressed={p.id === id}
                  title={p.cases.join(", ")}
                  onClick={() => navigate(`/plates/${p.id}`)}
                  className={`rounded-lg px-2 py-1 max-w-40 shrink-0 truncate text-[13px] font-semibold ${p.id === id ? "bg-secondary text-secondary-content" : "dim"}`}
                >
                  {p.name || `Plate ${p.id}`} · {p.bodies}
                </button>
              ))}
            </nav>
          </>
        )}
        <button
          type="button"
          className="btn btn-sm"
          title="A plate of this printer, filled with what is ready, what is due first in front"
          onClick={() => begin.mutate({ printer: bay, filled: true })}
          disabled={begin.isPending}
        >
          Next plate
        </button>
        <button
          type="button"
          className="btn btn-sm"
          title="A plate of this printer with nothing on it"
          onClick={() => begin.mutate({ printer: bay, filled: false })}
          disabled={begin.isPending}
        >
          Empty plate
        </button>
      </TopBar>
      <Command
        id="next-plate"
        title="Begin the next plate with what is ready"
        keys="n"
        group="Plate room"
        run={() => begin.mutate({ printer: bay, filled: true })}
      />
      <Bays bays={bays} prints={prints} at={bay} onChoose={open} />
      <div className="flex min-h-0 flex-1">
        <Shelf shelf={shelf} doings={doings} open={plate !== undefined} />
        {plate ? (
          <Opened plate={plate} doings={doings} settings={settings} bays={bays} prints={own} />
        ) : (
          <main className="grid flex-1 place-items-center">
            {found.isError && id > 0 ? (
              <p role="alert">
                ▲ {found.error.message}{" "}
                <Link to="/plates" className="font-semibold text-primary">
                  To the newest
                </Link>
              </p>
            ) : plates.isSuccess && list.length === 0 ? (
              <div className="text-center">
                <p className="pb-3 text-lg">No plate is begun yet.</p>
                <button
                  type="button"
                  className="btn btn-primary"
                  onClick={() => begin.mutate({ printer: "", filled: false })}
                >
                  Begin a plate
                </button>
              </div>
            ) : (
              <p className="dim">The plate comes onto the stage …</p>
            )}
          </main>
        )}
      </div>
      {plate && <LayerRuler plate={plate} doings={doings} />}
    </div>
  );
}

type OpenedProps = Omit<Parameters<typeof PlateCard>[0], "chosen" | "onChoose">;

function Opened(props: OpenedProps) {
  const { plate, doings } = props;
  const [chosen, setChosen] = useState("");
  const [over, setOver] = useState(false);
  useMoveKeys(doings, chosen);
  return (
    <>
      <main
        className={`relative min-w-0 flex-1 ${over ? "outline-2 -outline-offset-4 outline-primary" : ""}`}
        onDragOver={(e) => {
          if (!e.dataTransfer.types.includes(DRAGGED)) return;
          e.preventDefault();
          setOver(true);
        }}
        onDragLeave={() => setOver(false)}
        onDrop={(e) => {
          setOver(false);
          const text = e.dataTransfer.getData(DRAGGED);
          if (!text) return;
          e.preventDefault();
          const said = JSON.parse(text) as { case: string; addresses: string[] };
          if (said.addresses.length > 0) doings.put(said.case, said.addresses);
        }}
      >
        <PlateStage plate={plate} doings={doings} chosen={chosen} onChoose={setChosen} />
        <LayerPicture plate={plate} />
      </main>
      <PlateCard {...props} chosen={chosen} onChoose={setChosen} />
    </>
  );
}

const WAYS: Record<string, [number, number]> = {
  ArrowLeft: [-1, 0],
  ArrowRight: [1, 0],
  ArrowUp: [0, 1],
  ArrowDown: [0, -1],
};
/** Steps that follow each other so closely are one change. */
const REST_MS = 250;

/** The chosen body goes by 0.1 mm a press, with Shift by 1 mm. */
function useMoveKeys(doings: PlateDoings, chosen: string) {
  const latest = useRef(doings);
  latest.current = doings;
  useEffect(() => {
    if (!chosen) return;
    let by: [number, number] = [0, 0];
    let rest: ReturnType<typeof setTimeout> | undefined;
    const send = () => {
      if (by[0] !== 0 || by[1] !== 0) latest.current.move(chosen, by[0], by[1]);
      by = [0, 0];
    };
    const press = (event: KeyboardEvent) => {
      const way = WAYS[event.key];
      const target = event.target as HTMLElement;
      if (!way || target.closest("input, select, textarea, [role=slider]")) return;
      event.preventDefault();
      const mm = event.shiftKey ? 1 : 0.1;
      by = [by[0] + way[0] * mm, by[1] + way[1] * mm];
      clearTimeout(rest);
      rest = setTimeout(send, REST_MS);
    };
    window.addEventListener("keydown", press);
    return () => {
      window.removeEventListener("keydown", press);
      clearTimeout(rest);
      send();
    };
  }, [chosen]);
}

function Undo({ plate, doings }: { plate: Plate; doings: PlateDoings }) {
  const ways = [
    {
      name: "Undo",
      Icon: Undo2,
      says: plate.undo,
      will: "Take back",
      none: "Nothing of yours to take back",
      run: doings.undo,
    },
    { name: "Redo", Icon: Redo2, says: plate.redo, will: "Do again", none: "Nothing to do again", run: doings.redo },
  ];
  return (
    <span className="flex rounded-lg bg-base-200">
      {ways.map(({ name, Icon, says, will, none, run }) => (
        <button
          key={name}
          type="button"
          className="btn btn-ghost btn-sm"
          aria-label={name}
          title={says ? `${will}: ${says}` : none}
          disabled={!says}
          onClick={run}
        >
          <Icon size={15} />
        </button>
      ))}
      <Command id="undo" title="Undo" keys="mod+z" group="Plate room" run={doings.undo} />
      <Command id="redo" title="Redo" keys="mod+shift+z" group="Plate room" run={doings.redo} />
    </span>
  );
}
