import type { Reading } from "../api/client";
import { capital, reading } from "../format";

/** One measured result with its unit, inside a list of definitions. */
export function ReadingRow({ of, small = false }: { of: Reading; small?: boolean }) {
  return (
    <div className={`flex justify-between gap-2 ${small ? "" : "py-0.5"}`}>
      <dt className={`truncate ${small ? "dim" : ""}`} title={of.name}>
        {capital(of.name)}
      </dt>
      <dd className={`whitespace-nowrap ${small ? "" : "font-semibold"}`}>{reading(of.value, of.unit)}</dd>
    </div>
  );
}
