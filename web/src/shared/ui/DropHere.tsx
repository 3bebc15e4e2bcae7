import { type ReactNode, useRef, useState } from "react";
import { say, sayError } from "../../store/notices";
import type { Dropped } from "../api/client";
import { upload } from "../api/upload";

interface Props {
  url: string;
  says: string;
  onDone: (dropped: Dropped) => void;
  /** choose opens the file dialog; share is how much of a drop has gone out, null when nothing is on its way. */
  children: (choose: () => void, share: number | null) => ReactNode;
}

/** A room on which files can be dropped anywhere. What is refused is said in a sentence each. */
export function DropHere({ url, says, onDone, children }: Props) {
  const [over, setOver] = useState(false);
  // How much of each drop on its way has gone out: several can be on their way at once.
  const [shares, setShares] = useState<Record<number, number>>({});
  const drops = useRef(0);
  const input = useRef<HTMLInputElement>(null);
  const depth = useRef(0);

  async function send(files: File[]) {
    if (files.length === 0) return;
    const drop = drops.current++;
    const tell = (share: number) => setShares((all) => ({ ...all, [drop]: share }));
    tell(0);
    try {
      const dropped = await upload(url, files, tell);
      for (const r of dropped.refused) say(r.message, "look");
      onDone(dropped);
    } catch (error) {
      sayError(error);
    } finally {
      setShares(({ [drop]: _, ...rest }) => rest);
    }
  }

  const onTheirWay = Object.values(shares);
  const share = onTheirWay.length ? onTheirWay.reduce((a, b) => a + b, 0) / onTheirWay.length : null;
  return (
    // biome-ignore lint/a11y/noStaticElementInteractions: files can be dropped anywhere; the button beside it takes them too
    <div
      className="relative h-full"
      onDragEnter={(e) => {
        e.preventDefault();
        depth.current += 1;
        setOver(true);
      }}
      onDragLeave={() => {
        depth.current -= 1;
        if (depth.current <= 0) setOver(false);
      }}
      onDragOver={(e) => e.preventDefault()}
      onDrop={(e) => {
        e.preventDefault();
        depth.current = 0;
        setOver(false);
        send([...e.dataTransfer.files]);
      }}
    >
      {children(() => input.current?.click(), share)}
      <input
        ref={input}
        type="file"
        multiple
        hidden
        aria-label="Scans"
        data-testid="scans"
        onChange={(e) => {
          send([...(e.target.files ?? [])]);
          e.target.value = "";
        }}
      />
      {over && (
        <div className="pointer-events-none absolute inset-3 z-40 grid place-items-center rounded-box border-4 border-dashed border-primary bg-base-100/80 text-2xl font-bold">
          {says}
        </div>
      )}
    </div>
  );
}
