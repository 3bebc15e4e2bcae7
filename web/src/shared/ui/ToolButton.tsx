import type { ReactNode } from "react";
import { keyWords } from "../../store/commands";

interface Props {
  label: string;
  keys: string;
  on?: boolean;
  /** There are many: the key stands in its title alone. */
  close?: boolean;
  icon?: ReactNode;
  onClick: () => void;
}

/** A tool of the stage: its name and its key. */
export function ToolButton({ label, keys, on = false, close = false, icon, onClick }: Props) {
  return (
    <button
      type="button"
      aria-pressed={on}
      title={`${label} (${keyWords(keys)})`}
      onClick={onClick}
      className={`line flex h-9 items-center gap-2 rounded-lg border font-semibold ${close ? "px-2.5" : "px-3"} ${
        on ? "bg-neutral text-neutral-content" : "bg-base-100 hover:bg-secondary"
      }`}
    >
      {icon}
      {label}
      {!close && <kbd className="key">{keyWords(keys)}</kbd>}
    </button>
  );
}
