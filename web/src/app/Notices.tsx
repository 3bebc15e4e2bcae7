import { X } from "lucide-react";
import { useEffect } from "react";
import { useNotices } from "../store/notices";

export function Notices() {
  const { list, drop, dropAll } = useNotices();
  useEffect(() => {
    const away = (event: KeyboardEvent) => event.key === "Escape" && dropAll();
    window.addEventListener("keydown", away);
    return () => window.removeEventListener("keydown", away);
  }, [dropAll]);
  return (
    <div
      className="pointer-events-none fixed inset-x-0 top-14 z-50 flex flex-col items-center gap-2"
      aria-live="polite"
    >
      {list.map((n) => (
        <div
          key={n.id}
          role={n.tone === "calm" ? "status" : "alert"}
          className={`line pointer-events-auto flex max-w-[44rem] items-start gap-3 rounded-lg border px-4 py-2 shadow-lg ${
            n.tone === "calm" ? "bg-base-100" : "border-warning bg-[var(--look-ground)]"
          }`}
        >
          <span aria-hidden="true" className="pt-0.5 text-xs">
            {n.tone === "calm" ? "■" : "▲"}
          </span>
          <span>{n.text}</span>
          <button type="button" aria-label="Close this message" className="pt-0.5" onClick={() => drop(n.id)}>
            <X size={15} />
          </button>
        </div>
      ))}
    </div>
  );
}
