import { useQuery } from "@tanstack/react-query";
import { Link, useParams } from "react-router";
import { client, ok, type ProofSection } from "../../shared/api/client";
import { TopBar } from "../../shared/ui/TopBar";

/** Files may still be read back, a print may go on. */
const AGAIN_MS = 4000;

/** One page of a case that could be hung on the wall: what came in, was asked for, went out, who said yes. */
export function ProofSheet() {
  const { number = "" } = useParams();
  const found = useQuery({
    queryKey: ["proof", number],
    queryFn: () => ok(client.GET("/api/proofs/{number}", { params: { path: { number } } })),
    refetchInterval: AGAIN_MS,
    retry: false,
  });
  const sheet = found.data;
  return (
    <div className="flex h-screen flex-col print:block print:h-auto">
      <div className="print:hidden">
        <TopBar>
          <Link to={`/case/${number}`} className="btn btn-sm">
            {number}
          </Link>
          <span className="font-semibold">Proof sheet</span>
          <a className="btn btn-sm" href={`/api/proofs/${number}/proof.pdf`} download>
            proof.pdf
          </a>
          <a className="btn btn-sm" href={`/api/proofs/${number}/proof.json`} download>
            proof.json
          </a>
          <button type="button" className="btn btn-sm" onClick={() => window.print()}>
            Print it
          </button>
        </TopBar>
      </div>
      <main className="min-h-0 flex-1 overflow-y-auto bg-base-200 px-6 py-6 print:overflow-visible print:bg-white print:p-0">
        {found.error && (
          <p role="alert" className="p-4 text-lg">
            ▲ {found.error.message}{" "}
            <Link to="/" className="font-semibold text-primary">
              Back to the rack
            </Link>
          </p>
        )}
        {!sheet && !found.error && <p className="dim p-4">The sheet is being put together …</p>}
        {sheet && (
          <article
            aria-label="Proof sheet"
            className="line mx-auto max-w-[940px] rounded-lg border bg-base-100 px-10 py-8 text-[13px] print:border-0 print:p-0"
          >
            <header className="mb-2 flex items-start justify-between gap-6">
              <div>
                <h1 className="mb-1 text-3xl font-bold">{sheet.head[0]}</h1>
                {sheet.head.slice(1).map((line) => (
                  <p key={line} className="dim">
                    {line}
                  </p>
                ))}
              </div>
              {sheet.picture && (
                <img
                  src={`/api/pictures/${sheet.picture}.png`}
                  alt="The models"
                  className="h-44 shrink-0 object-contain"
                />
              )}
            </header>
            {sheet.sections.map((section) => (
              <Part key={section.title} section={section} />
            ))}
            <p className="dim mt-5 font-mono text-[10px] break-all">proof.json of this sheet: SHA-256 {sheet.sha256}</p>
          </article>
        )}
      </main>
    </div>
  );
}

const LOOK = { text: "", dim: "dim", hash: "dim font-mono text-[10px] leading-tight" } as const;

function Part({ section }: { section: ProofSection }) {
  return (
    <section aria-label={section.title} className="mt-4">
      <h2 className="mb-1 font-bold">{section.title}</h2>
      {section.rows.length === 0 && <p className="dim">{section.none}</p>}
      {section.rows.map((row, n) => (
        <div
          // biome-ignore lint/suspicious/noArrayIndexKey: rows have no other name, and come all at once
          key={n}
          className="line grid gap-3 border-b py-1 print:break-inside-avoid"
          style={{ gridTemplateColumns: section.wide.map((w) => `minmax(0, ${w}fr)`).join(" ") }}
        >
          {row.map((cell, k) => (
            // biome-ignore lint/suspicious/noArrayIndexKey: a cell is known by its column
            <div key={k} className={LOOK[cell.look]}>
              {cell.lines.map((line) => (
                <p key={line} className="break-words">
                  {line}
                </p>
              ))}
            </div>
          ))}
        </div>
      ))}
    </section>
  );
}
