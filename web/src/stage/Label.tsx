import { type ReactNode, useEffect, useRef } from "react";
import { facesViewer, followFrames, project } from "./frames";

/** Words pinned to a place on the stage. */
export function Label({
  at,
  children,
  tone = "calm",
  out,
}: {
  at: [number, number, number];
  children: ReactNode;
  tone?: "calm" | "look";
  /** Of words that stand on the model themselves: which way they look. Where they can be read they are not said again. */
  out?: [number, number, number];
}) {
  const box = useRef<HTMLDivElement>(null);
  const [x, y, z] = at;
  const [ox, oy, oz] = out ?? [0, 0, 0];
  useEffect(
    () =>
      followFrames((frame) => {
        const read = (ox || oy || oz) && facesViewer([x, y, z], [ox, oy, oz], frame);
        const p = project([x, y, z], frame);
        if (!box.current) return;
        box.current.style.display = p ? "" : "none";
        box.current.style.visibility = read ? "hidden" : "";
        if (p)
          box.current.style.transform = `translate(${p[0].toFixed(1)}px, ${p[1].toFixed(1)}px) translate(-50%, 14px)`;
      }),
    [x, y, z, ox, oy, oz],
  );
  return (
    <div
      ref={box}
      className={`line pointer-events-none absolute top-0 left-0 max-w-64 will-change-transform rounded-lg border px-2 py-0.5 font-semibold shadow-sm ${
        tone === "look" ? "border-warning bg-[var(--look-ground)] text-warning" : "bg-base-100"
      }`}
    >
      {children}
    </div>
  );
}
