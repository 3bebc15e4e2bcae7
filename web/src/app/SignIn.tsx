import { useQueryClient } from "@tanstack/react-query";
import { type FormEvent, useEffect, useState } from "react";
import { client, type Me, ok } from "../shared/api/client";
import { useSession } from "../shared/api/session";
import { Mark } from "../shared/ui/Mark";

interface Props {
  /** first: nobody has an account yet; again: over what is open, after the session has ended. */
  way?: "plain" | "first" | "again";
}

const WORDS = {
  plain: { says: "", button: "Sign in" },
  first: {
    says: "Nobody has an account here yet. The first is a lead’s, who makes the others.",
    button: "Make the first account",
  },
  again: { says: "Your session has ended. Sign in to go on where you were; nothing is lost.", button: "Sign in" },
};

export function SignIn({ way = "plain" }: Props) {
  const queries = useQueryClient();
  const [wrong, setWrong] = useState("");
  const [busy, setBusy] = useState(false);

  async function submit(event: FormEvent<HTMLFormElement>) {
    event.preventDefault();
    const form = new FormData(event.currentTarget);
    const body = { name: String(form.get("name")), password: String(form.get("password")) };
    if (way === "first" && body.password !== String(form.get("again"))) {
      setWrong("The two passwords are not the same.");
      return;
    }
    setBusy(true);
    try {
      const path = way === "first" ? "/api/first-account" : "/api/sign-in";
      await entered(await ok(client.POST(path, { body })));
    } catch (error) {
      setWrong(error instanceof Error ? error.message : "That did not work.");
    } finally {
      setBusy(false);
    }
  }

  async function entered(me: Me) {
    const { person, begin } = useSession.getState();
    const other = person !== null && person !== me.person?.id;
    if (other) queries.removeQueries({ predicate: (query) => query.queryKey[0] !== "me" });
    // An answer from before, still on its way, would say that nobody is signed in.
    await queries.cancelQueries({ queryKey: ["me"] });
    queries.setQueryData(["me"], me);
    begin(me.person?.id ?? null);
    if (way === "again") queries.invalidateQueries({ predicate: (query) => query.queryKey[0] !== "me" });
  }

  return (
    <form
      onSubmit={submit}
      className="line w-80 rounded-box border bg-base-100 p-7 shadow-sm"
      aria-label={WORDS[way].button}
    >
      <div className="mb-4 flex items-center gap-2">
        <Mark size={30} />
        <h1 className="text-lg font-bold">Bite Bench</h1>
      </div>
      {WORDS[way].says && <p className="dim mb-4">{WORDS[way].says}</p>}
      <Field label="Name" name="name" autoComplete="username" />
      <Field
        label="Password"
        name="password"
        type="password"
        autoComplete={way === "first" ? "new-password" : "current-password"}
      />
      {way === "first" && <Field label="Password once more" name="again" type="password" autoComplete="new-password" />}
      {wrong && (
        <p role="alert" className="mb-3 text-warning">
          ▲ {wrong}
        </p>
      )}
      <button type="submit" className="btn btn-primary mt-1 w-full" disabled={busy}>
        {WORDS[way].button}
      </button>
    </form>
  );
}

function Field({ label, ...rest }: { label: string } & React.InputHTMLAttributes<HTMLInputElement>) {
  return (
    <label className="mb-3 block">
      <span className="mb-1 block font-semibold">{label}</span>
      <input className="input w-full" required maxLength={150} {...rest} />
    </label>
  );
}

/** The door of the house. */
export function SignInPage({ first }: { first: boolean }) {
  return (
    <main className="stage-ground grid h-full place-items-center">
      <SignIn way={first ? "first" : "plain"} />
    </main>
  );
}

/** Escape would close it: there is nothing to go back to. */
function stay(event: React.KeyboardEvent) {
  if (event.key === "Escape") event.preventDefault();
}

/** Over what is open: it stays as it is, half-typed words too. */
export function SignInAgain() {
  const ended = useSession((s) => s.ended);
  const [dialog, setDialog] = useState<HTMLDialogElement | null>(null);
  useEffect(() => dialog?.showModal(), [dialog]);
  if (!ended) return null;
  return (
    <dialog
      ref={setDialog}
      className="modal"
      aria-label="Sign in again"
      onCancel={(e) => e.preventDefault()}
      onKeyDown={stay}
    >
      <SignIn way="again" />
    </dialog>
  );
}
