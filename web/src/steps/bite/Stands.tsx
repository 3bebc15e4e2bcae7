import { useState } from "react";
import { goodOf, type NodeOf } from "../../case/look";
import type { Doings } from "../../case/useCase";
import type { CaseOut } from "../../shared/api/client";
import { useNames } from "../../shared/toothNames";
import { type CardProps, toStage } from "../../stage";
import { type Point, useBench } from "../../store/bench";
import { Bites, OfBite } from "./Bites";
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
  const [all, setAll] = useState(false);
  const names = useNames();
  const rows = byTooth(contacts);
  const lower = data.pieces.find((p) => p.jaw === "lower");
  const met = new Set(rows.map((row) => row.tooth));
  const free = (lower ? (goodOf(data, "teeth", lower.id)?.teeth ?? []) : [])
    .map((t) => t.fdi)
    .filter((n) => !met.has(n));
  const marked = scans.find((s) => s.piece === marking?.piece);
  if (marking) return <MarkList data={data} doings={doings} apart={marked?.marks_mm ?? []} />;
  return (
    <section aria-label="How the jaws stand" className="mb-2">
      <Bites data={data} doings={doings} />
      <ul>
        {scans.map((scan) => (
          <ScanLine key={scan.piece} scan={scan} data={data} doings={doings} />
        ))}
      </ul>
      <Followers data={data} doings={doings} />
      {contacts.length > 0 && (
        <>
          <div className="flex items-center justify-between pt-1">
            <h3 className="dim text-xs font-semibold">Contacts by tooth</h3>
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
            {(all ? rows : rows.slice(0, FEW)).map((row) => (
              <ContactLine
                key={row.deepest.point_mm.join()}
                row={row}
                name={names}
                place={toStage(ui, { data, view }, row.deepest.piece, row.deepest.point_mm)}
              />
            ))}
          </ul>
          {rows.length > FEW && (
            <button type="button" className="py-0.5 font-semibold text-primary" onClick={() => setAll(!all)}>
              {all ? "Fewer" : `${rows.length - FEW} more teeth`}
            </button>
          )}
          {free.length > 0 && (
            <p className="dim text-[13px]" data-testid="free-teeth">
              Without contact: {free.map(names).join(", ")}
            </p>
          )}
        </>
      )}
      <Since data={data} />
    </section>
  );
}

/** The contacts of one tooth of the lower; of what is on no tooth each by itself. */
interface Row {
  tooth: number | null;
  others: number[];
  count: number;
  area: number;
  deepest: Contact;
}

function byTooth(contacts: Contact[]): Row[] {
  const rows: Row[] = [];
  for (const contact of contacts) {
    const [tooth, other] = contact.teeth ?? [null, null];
    const row = tooth === null ? undefined : rows.find((r) => r.tooth === tooth);
    if (!row) {
      rows.push({ tooth, others: other ? [other] : [], count: 1, area: contact.area_mm2, deepest: contact });
      continue;
    }
    row.count += 1;
    row.area += contact.area_mm2;
    if (other && !row.others.includes(other)) row.others.push(other);
  }
  return rows;
}

function ContactLine({ row, name, place }: { row: Row; name: (fdi: number) => string; place: Point }) {
  const pointAt = useBench((s) => s.pointAt);
  const { tooth, others, count, area, deepest } = row;
  const depth = Math.round(deepest.depth_mm * 1000);
  const deep = depth > 0 ? `${depth} µm deep` : `${-depth} µm off`;
  const where = `${deepest.side}, ${Math.max(0, Math.round(deepest.behind_mm))} mm`;
  const words = tooth === null ? where : [name(tooth), others.map(name).join(", ")].filter(Boolean).join(" on ");
  return (
    <li className="flex justify-between gap-2 py-0.5 text-[13px]">
      <span className="min-w-0 truncate" title={`${where} behind the incisors`}>
        <b className="font-semibold">{words}</b>
        {count > 1 && <span className="dim"> ×{count}</span>}
      </span>
      <span className="dim whitespace-nowrap">
        {deep} · {area.toFixed(2)} mm²
      </span>
      <button
        type="button"
        className="font-semibold text-primary"
        onClick={() => pointAt({ point: place, radius: 1, text: `${words}: ${deep}` })}
      >
        Show
      </button>
    </li>
  );
}

function ScanLine({ scan, data, doings }: { scan: BiteScan; data: CaseOut; doings: Doings }) {
  const { act, piece, mark } = useBench();
  const file = data.pieces.find((p) => p.id === scan.piece)?.file ?? scan.piece;
  const worst = Math.round(Math.max(...scan.rms_mm) * 1000);
  return (
    <li className="line flex flex-wrap justify-end gap-x-2 border-b py-1 text-[13px]">
      <span className="min-w-20 flex-1 truncate" title={file}>
        {scan.side ? `Bite, ${scan.side}` : file}
      </span>
      <span
        className={scan.to_upper ? "dim whitespace-nowrap" : "font-semibold whitespace-nowrap text-warning"}
        title={scan.why}
      >
        {scan.to_upper ? `${Math.round((scan.met[0] + scan.met[1]) * 100)} % on, ±${worst} µm` : "▲ left out"}
      </span>
      <OfBite piece={scan.piece} data={data} doings={doings} />
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
