import { useRef } from "react";
import { Link } from "react-router";
import type { CaseOut } from "../../shared/api/client";
import { bytes } from "../../shared/format";
import { Command } from "../../shared/ui/Command";

/** The files that were made, one by one or as a ZIP. */
export function Files({ data }: { data: CaseOut }) {
  const { files } = data;
  const all = useRef<HTMLAnchorElement>(null);
  if (files.length === 0) return null;
  const base = `/api/cases/${data.number}`;
  return (
    <section aria-label="Files" className="mt-3">
      <h3 className="dim mb-1 text-xs font-semibold tracking-wide uppercase">Files</h3>
      <ul>
        {files.map((file) => (
          <li key={file.name} className="line flex justify-between gap-2 border-b py-1.5">
            <a
              className="min-w-0 flex-1 truncate font-semibold text-primary"
              href={`${base}/files/${encodeURIComponent(file.name)}`}
              download
            >
              {file.name}
            </a>
            <span className="dim whitespace-nowrap" title={`SHA-256 ${file.sha256}`}>
              {bytes(file.bytes)}
            </span>
          </li>
        ))}
      </ul>
      <Command id="zip" title="All files as ZIP" keys="shift+f" group="Hand-off" run={() => all.current?.click()} />
      <p className="py-1.5">
        <a className="font-semibold text-primary" href={`${base}/layers.zip`} download>
          layers.zip
        </a>{" "}
        <span className="dim">the plate in layers, made when it is fetched</span>
      </p>
      <p className="py-1.5">
        <Link className="font-semibold text-primary" to={`/case/${data.number}/proof`}>
          Proof sheet
        </Link>{" "}
        <span className="dim">what the files measure, who said yes, as a page and as PDF</span>
      </p>
      <a
        ref={all}
        className="btn btn-sm mt-2 w-full"
        href={`${base}/files.zip`}
        download
        title="All files as ZIP (Shift F)"
      >
        All as {data.number}.zip
      </a>
    </section>
  );
}
