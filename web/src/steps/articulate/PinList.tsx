import { detailOf, goodOf } from "../../case/look";
import type { CardProps } from "../../stage";

const ZONES = ["back left", "back right", "side left", "side right"] as const;

/** Every pin in words: it can be left out, put back where the program would put it, or taken away. */
export function PinList({ data, doings }: CardProps) {
  const step = goodOf(data, "articulate");
  const entries = detailOf(data, "articulate")?.settings.pins ?? {};
  const pins = step?.pins ?? [];
  if (!step || (pins.length === 0 && Object.keys(entries).length === 0)) return null;
  const change = (id: string, value: Record<string, unknown> | null) =>
    doings.entry("articulate", "*", ["pins"], id, value);
  const button = (name: string, of: string, run: () => void) => (
    <button type="button" className="font-semibold text-primary" aria-label={`${name}: ${of}`} onClick={run}>
      {name}
    </button>
  );
  const settings = detailOf(data, "articulate")?.settings;
  const order = settings?.first === "beside" ? [...ZONES.slice(2), ...ZONES.slice(0, 2)] : [...ZONES];
  const asked = order.slice(0, Number(settings?.count ?? 4));
  const entryOf = (zone: string) => Object.entries(entries).find(([, e]) => e.zone === zone);
  return (
    <ul aria-label="Pins" className="mt-3 text-[13px]">
      {ZONES.map((zone) => {
        const [id, entry] = entryOf(zone) ?? ["", undefined];
        const stands = pins.find((p) => p.zone === zone);
        return (
          <li key={zone} className="line flex items-center gap-2 border-b py-1">
            <span className="flex-1">
              {zone}
              <span className="dim">
                {" "}
                {stands
                  ? entry?.at
                    ? "put by hand"
                    : ""
                  : entry
                    ? "left out"
                    : asked.includes(zone)
                      ? "no place"
                      : "not asked for"}
              </span>
            </span>
            {id && button(entry?.at ? "By itself" : "Put back", zone, () => change(id, null))}
            {stands && button("Leave out", zone, () => change(id, { zone, at: null }))}
          </li>
        );
      })}
      {Object.entries(entries)
        .filter(([, e]) => !e.zone)
        .map(([id], n) => (
          <li key={id} className="line flex items-center gap-2 border-b py-1">
            <span className="flex-1">
              one more, {n + 1}
              <span className="dim"> {pins.some((p) => p.entry === id) ? "" : "cannot stand there"}</span>
            </span>
            {button("Take away", `added ${n + 1}`, () => change(id, null))}
          </li>
        ))}
    </ul>
  );
}
