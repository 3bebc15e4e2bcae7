import { goodOf, type NodeOf } from "../../case/look";
import type { CaseOut } from "../../shared/api/client";
import { type CardProps, toStage } from "../../stage";
import { type Point, useBench } from "../../store/bench";
import { Followers } from "./Followers";
import { MarkList } from "./MarkList";
import { Since } from "./Since";

type Contact = NonNullable<NodeOf<"contacts">["good"]["contacts"]>[number];
type BiteScan = NonNullable<NodeOf<"fit">["good"]["scans"]>[number];

const FEW = 4;

/** How the jaws stand: where they touch, and what the bite scans say. */
export function Stands({ data, view, ui, doings }: CardProps) {
  const contacts = goodOf(data, "contacts")?.contacts ?? [];
  const scans = goodOf(data, "fit")?.scans ?? [];
  const { book, openBook, marking } = useBench();
  const marked = scans.find((s) => s.piece === marking?.piece);
  if (marking) return <MarkList data={data} doings={doings} apart={marked?.marks_mm ?? []} />;
  return (
    <section aria-label="How the jaws stand" className="mb-2">
      <ul>
        {scans.map((scan) => (
          <ScanLine key={scan.piece} scan={scan} data={data} />
        ))}
      </ul>
      <Followers data={data} doings={doings} />
      {contacts.length > 0 && (
        <>
          <div className="flex items-center justify-between pt-1">
            <h3 className="dim text-xs font-semibold">Contacts, deepest first</h3>
            <button
              type="button"
              aria-pressed={book}
              className="font-semibold text-primary"
              title="The jaws opened beside each other (B)"
              onClick={() => openBook(!book)}
            >
              {book ? "Close the book" : "Open like a book"}
            </button>
          </div>
          <ul aria-label="Contacts">
            {contacts.slice(0, FEW).map((c) => (
              <ContactLine
                key={c.point_mm.join()}
                contact={c}
                place={toStage(ui, { data, view }, c.piece, c.point_mm)}
              />
            ))}
          </ul>
        </>
      )}
      <Since data={data} />
    </section>
  );
}

function ContactLine({ contact: c, place }: { contact: Contact; place: Point }) {
  const pointAt = useBench((s) => s.pointAt);
  const depth = Math.round(c.depth_mm * 1000);
  const words = depth > 0 ? `${depth} µm deep` : `${-depth} µm off`;
  return (
    <li className="flex justify-between gap-2 py-0.5 text-[13px]">
      <span className="truncate" title="side, and how far behind the incisors">
        {c.side}, {Math.max(0, Math.round(c.behind_mm))} mm
      </span>
      <span className="dim whitespace-nowrap">
        {words} · {c.area_mm2.toFixed(2)} mm²
      </span>
      <button
        type="button"
        className="font-semibold text-primary"
        onClick={() => pointAt({ point: place, radius: 1, text: words })}
      >
        Show
      </button>
    </li>
  );
}

function ScanLine({ scan, data }: { scan: BiteScan; data: CaseOut }) {
  const { act, piece, mark } = useBench();
  const file = data.pieces.find((p) => p.id === scan.piece)?.file ?? scan.piece;
  const worst = Math.round(Math.max(...scan.rms_mm) * 1000);
  return (
    <li className="line flex justify-between gap-2 border-b py-1 text-[13px]">
      <span className="min-w-0 truncate" title={file}>
        {scan.side ? `Bite, ${scan.side}` : file}
      </span>
      <span
        className={scan.to_upper ? "dim whitespace-nowrap" : "font-semibold whitespace-nowrap text-warning"}
        title={scan.why}
      >
        {scan.to_upper ? `${Math.round((scan.met[0] + scan.met[1]) * 100)} % on, ±${worst} µm` : "▲ left out"}
      </span>
      <button
        type="button"
        className="font-semibold text-primary"
        aria-pressed={piece === scan.piece}
        title="See it where it lies on the jaws"
        onClick={() => act(scan.piece)}
      >
        Show
      </button>
      <button
        type="button"
        className="font-semibold text-primary"
        title="Match points by hand, where the fit is unsure"
        onClick={() => mark(scan.piece)}
      >
        Marks
      </button>
    </li>
  );
}
