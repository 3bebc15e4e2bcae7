import type { ReactNode } from "react";
import { keyWords } from "../../store/commands";

interface Props {
  label: string;
  keys: string;
  on?: boolean;
  icon?: ReactNode;
  onClick: () => void;
}

/** A tool of the stage: its name and its key. */
export function ToolButton({ label, keys, on = false, icon, onClick }: Props) {
  return (
    <button
      type="button"
      aria-pressed={on}
      title={`${label} (${keyWords(keys)})`}
      onClick={onClick}
      className={`line flex h-9 items-center gap-2 rounded-lg border px-3 font-semibold ${
        on ? "bg-neutral text-neutral-content" : "bg-base-100 hover:bg-secondary"
      }`}
    >
      {icon}
      {label}
      <kbd className="key">{keyWords(keys)}</kbd>
    </button>
  );
}
