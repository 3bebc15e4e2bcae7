import { useQueryClient } from "@tanstack/react-query";
import { type FormEvent, useState } from "react";
import { client, ok } from "../shared/api/client";
import { Mark } from "../shared/ui/Mark";

export function SignIn() {
  const queries = useQueryClient();
  const [wrong, setWrong] = useState("");
  const [busy, setBusy] = useState(false);

  async function submit(event: FormEvent<HTMLFormElement>) {
    event.preventDefault();
    const form = new FormData(event.currentTarget);
    setBusy(true);
    try {
      const body = { name: String(form.get("name")), password: String(form.get("password")) };
      queries.setQueryData(["me"], await ok(client.POST("/api/sign-in", { body })));
    } catch (error) {
      setWrong(error instanceof Error ? error.message : "That did not work.");
    } finally {
      setBusy(false);
    }
  }

  return (
    <main className="stage-ground grid h-full place-items-center">
      <form onSubmit={submit} className="line w-80 rounded-box border bg-base-100 p-7 shadow-sm">
        <div className="mb-5 flex items-center gap-2">
          <Mark size={30} />
          <h1 className="text-lg font-bold">Bite Bench</h1>
        </div>
        <label className="mb-3 block">
          <span className="mb-1 block font-semibold">Name</span>
          <input name="name" className="input w-full" autoComplete="username" required />
        </label>
        <label className="mb-4 block">
          <span className="mb-1 block font-semibold">Password</span>
          <input name="password" type="password" className="input w-full" autoComplete="current-password" required />
        </label>
        {wrong && (
          <p role="alert" className="mb-3 text-warning">
            ▲ {wrong}
          </p>
        )}
        <button type="submit" className="btn btn-primary w-full" disabled={busy}>
          Sign in
        </button>
      </form>
    </main>
  );
}
