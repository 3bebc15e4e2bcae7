import { useQuery, useQueryClient } from "@tanstack/react-query";
import { say, sayError, useNotices } from "../../store/notices";
import { client, ok } from "../api/client";
import { Command } from "./Command";

/** The veil over patients' names: one key draws and lifts it. While it is down the server sends no name at all. */
export function VeilKey() {
  const queries = useQueryClient();
  const veil = useQuery({ queryKey: ["veil"], queryFn: () => ok(client.GET("/api/cases/veil")), staleTime: 60_000 });
  const down = veil.data?.down ?? false;
  async function turn() {
    try {
      queries.setQueryData(["veil"], await ok(client.POST("/api/cases/veil", { body: { down: !down } })));
      // What is kept of earlier looks goes at once, and messages on the screen with it.
      if (!down) {
        queries.removeQueries({ predicate: (q) => ["history", "moved"].includes(String(q.queryKey[0])) });
        queries.removeQueries({ type: "inactive", predicate: (q) => ["rack", "case"].includes(String(q.queryKey[0])) });
        useNotices.setState({ list: [] });
      }
      await queries.invalidateQueries({
        predicate: (q) => ["rack", "case", "history", "moved"].includes(String(q.queryKey[0])),
      });
      say(down ? "Names are shown again." : "Patients' names are veiled on this screen.", "calm");
    } catch (error) {
      sayError(error);
    }
  }
  return (
    <>
      <Command id="veil" title={down ? "Lift the veil" : "Veil patients' names"} keys="v" group="Rooms" run={turn} />
      {down && (
        <button
          type="button"
          onClick={turn}
          title="Lift the veil (V)"
          className="shrink-0 rounded-full bg-neutral px-3 py-1 text-sm font-semibold text-neutral-content"
        >
          ▒ Veiled
        </button>
      )}
    </>
  );
}
