import { useQuery } from "@tanstack/react-query";
import { client, ok, type ToothOut } from "./api/client";
import { type Notation, useNotation } from "./notation";

/** What a tooth is called in the notation that is spoken here. */
export function useNames(): (fdi: number) => string {
  const notation: Notation = useNotation((s) => s.notation);
  const chart = useQuery({
    queryKey: ["teeth"],
    queryFn: () => ok(client.GET("/api/cases/teeth")),
    staleTime: Number.POSITIVE_INFINITY,
  });
  const named = new Map((chart.data ?? []).map((t: ToothOut) => [t.fdi, t[notation]]));
  return (fdi) => String(named.get(fdi) ?? fdi);
}
