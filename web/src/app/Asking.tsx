import { useEffect, useRef } from "react";
import { useAsking } from "../store/asking";

/** The question that is open, over the page. Closing it is a no. */
export function Asking() {
  const open = useAsking((s) => s.open);
  const dialog = useRef<HTMLDialogElement>(null);
  useEffect(() => {
    if (open) dialog.current?.showModal();
  }, [open]);
  if (!open) return null;
  return (
    <dialog ref={dialog} className="modal" aria-label="Before it is done" onClose={() => open.answer(false)}>
      <div className="modal-box line max-w-lg border">
        <p className="mb-4">{open.text}</p>
        <div className="flex justify-end gap-2">
          <button type="button" className="btn btn-sm" onClick={() => open.answer(false)}>
            Leave it
          </button>
          <button type="button" className="btn btn-primary btn-sm" onClick={() => open.answer(true)}>
            {open.yes}
          </button>
        </div>
      </div>
    </dialog>
  );
}
