import { useEffect, useRef, useState } from "react";
import { Command } from "../shared/ui/Command";
import { type CommandEntry, keyWords, useCommands } from "../store/commands";
import { useOverlay } from "../store/overlay";

/** The command box and the overview of keys. */
export function Overlays() {
  const { which, open, close } = useOverlay();
  return (
    <>
      <Command id="box" title="Find a command" keys="/" group="Help" run={() => open("commands")} />
      <Command id="keys" title="All keys" keys="?" group="Help" run={() => open("keys")} />
      {which && <Sheet which={which} close={close} />}
    </>
  );
}

function Sheet({ which, close }: { which: "commands" | "keys"; close: () => void }) {
  const dialog = useRef<HTMLDialogElement>(null);
  useEffect(() => dialog.current?.showModal(), []);
  return (
    <dialog
      ref={dialog}
      onClose={close}
      className="modal"
      aria-label={which === "keys" ? "All keys" : "Find a command"}
    >
      <div className={`modal-box line border p-0 ${which === "keys" ? "max-w-[1200px]" : "max-w-xl"}`}>
        {which === "keys" ? <Keys /> : <Box close={close} />}
      </div>
      <form method="dialog" className="modal-backdrop">
        <button type="submit">Close</button>
      </form>
    </dialog>
  );
}

function Box({ close }: { close: () => void }) {
  const list = useCommands((s) => s.list);
  const [text, setText] = useState("");
  const [at, setAt] = useState(0);
  const words = text.toLowerCase().split(/\s+/).filter(Boolean);
  const hits = Object.values(list)
    .filter((c) => c.id !== "box" && words.every((w) => `${c.group} ${c.title}`.toLowerCase().includes(w)))
    .slice(0, 9);
  function pick(entry: CommandEntry | undefined) {
    if (!entry) return;
    close();
    setTimeout(entry.run, 0);
  }
  return (
    <div>
      <input
        className="input w-full rounded-b-none border-0 border-b text-base"
        placeholder="What do you want to do?"
        aria-label="Find a command"
        value={text}
        onChange={(e) => {
          setText(e.target.value);
          setAt(0);
        }}
        onKeyDown={(e) => {
          if (e.key === "ArrowDown") setAt((i) => Math.min(i + 1, hits.length - 1));
          if (e.key === "ArrowUp") setAt((i) => Math.max(i - 1, 0));
          if (e.key === "Enter") pick(hits[at]);
        }}
      />
      <ul className="max-h-80 overflow-auto p-2">
        {hits.map((c, i) => (
          <li key={c.id}>
            <button
              type="button"
              onClick={() => pick(c)}
              className={`flex w-full justify-between rounded-lg px-3 py-1.5 text-left ${i === at ? "bg-secondary" : ""}`}
            >
              <span>
                {c.title} <span className="dim">· {c.group}</span>
              </span>
              <kbd className="key">{keyWords(c.keys)}</kbd>
            </button>
          </li>
        ))}
        {hits.length === 0 && <li className="dim px-3 py-2">Nothing is called that.</li>}
      </ul>
    </div>
  );
}

function Keys() {
  const list = Object.values(useCommands((s) => s.list));
  const groups = [...new Set(list.map((c) => c.group))];
  return (
    <div className="max-h-[88vh] overflow-auto p-5" data-testid="all-keys">
      <h2 className="mb-3 text-lg font-bold">All keys</h2>
      <div className="columns-4 gap-6 text-[13px]">
        {groups.map((group) => (
          <section key={group} className="mb-3">
            <h3 className="dim mb-1 break-after-avoid text-xs font-semibold tracking-wide uppercase">{group}</h3>
            <ul>
              {list
                .filter((c) => c.group === group)
                .map((c) => (
                  <li key={c.id} className="flex break-inside-avoid items-start justify-between gap-2 py-px">
                    {c.title} <kbd className="key">{keyWords(c.keys)}</kbd>
                  </li>
                ))}
            </ul>
          </section>
        ))}
      </div>
    </div>
  );
}
