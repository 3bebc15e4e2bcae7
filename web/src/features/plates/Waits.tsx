import { useMutation, useQuery, useQueryClient } from "@tanstack/react-query";
import { useState } from "react";
import { Link, useNavigate } from "react-router";
import { DoubtList } from "../../case/DoubtList";
import { client, type Doubts, ok, okCase, type Plate } from "../../shared/api/client";
import { useBench } from "../../store/bench";
import { sayError } from "../../store/notices";

const FEW = 3;

/** The cases nobody has said yes to: what is printed was seen. Their doubts are answered here, one by one. */
export function Waits({ plate }: { plate: Plate }) {
  const [open, setOpen] = useState("");
  const waits = Object.entries(plate.waits);
  if (waits.length === 0) return null;
  return (
    <ul aria-label="Waits for a yes" className="pb-1 text-[13px]">
      {waits.slice(0, FEW).map(([number, titles]) => (
        <li key={number}>
          <p className="flex gap-1.5 text-warning">
            <span className="min-w-0 flex-1 truncate" title={`${titles.join(", ")}: nobody has said yes to it yet.`}>
              ▲ No yes yet to {titles.join(", ")}
            </span>
            <button
              type="button"
              aria-expanded={open === number}
              className="font-semibold whitespace-nowrap text-primary"
              onClick={() => setOpen(open === number ? "" : number)}
            >
              Answer
            </button>
            <Link to={`/case/${number}`} className="font-semibold whitespace-nowrap text-primary">
              {number}
            </Link>
          </p>
          {open === number && <Answers number={number} plate={plate.id} />}
        </li>
      ))}
      {waits.length > FEW && <li className="text-warning">▲ {waits.length - FEW} more cases wait for a yes.</li>}
    </ul>
  );
}

/** The doubts of one case, each with its yes; then one for the rest of it. */
function Answers({ number, plate }: { number: string; plate: number }) {
  const queries = useQueryClient();
  const navigate = useNavigate();
  const want = useBench((s) => s.want);
  const path = { params: { path: { number } } };
  const found = useQuery({
    queryKey: ["doubts", number],
    queryFn: () =>
      ok(client.GET("/api/cases/{number}/doubts", { params: { path: { number }, query: { before: "plate" } } })),
    gcTime: 0,
  });
  const doing = useMutation({
    mutationFn: (call: () => Promise<unknown>) => call(),
    onError: sayError,
    onSettled: () =>
      Promise.all([
        queries.invalidateQueries({ queryKey: ["doubts", number] }),
        queries.invalidateQueries({ queryKey: ["plate", plate] }),
      ]),
  });
  if (!found.data) return <p className="dim">What it waits for comes …</p>;
  // The client's types widen places to lists of numbers.
  const { revision: base, waits, doubts } = found.data as unknown as Doubts;
  const open = doubts.filter((d) => !d.at && d.step in waits);
  return (
    <>
      <DoubtList
        doubts={doubts.filter((d) => d.step in waits)}
        busy={doing.isPending}
        onShow={({ step, flag }) => {
          want({ step, place: flag.place ?? null, text: flag.message, flag: flag.id });
          navigate(`/case/${number}`);
        }}
        onAnswer={(ids, yes) =>
          doing.mutate(() =>
            okCase(client.POST("/api/cases/{number}/doubts", { ...path, body: { base, doubts: ids, yes } })),
          )
        }
      />
      {Object.keys(waits).length > 0 && (
        <button
          type="button"
          className="btn btn-sm mb-1 h-auto min-h-0 w-full py-1.5 leading-tight"
          disabled={doing.isPending || open.length > 0}
          title={open.length > 0 ? "Its doubts come first" : ""}
          onClick={() =>
            doing.mutate(() =>
              okCase(
                client.POST("/api/cases/{number}/accept", {
                  ...path,
                  body: { base, steps: Object.keys(waits), accepted: true, seen: [] },
                }),
              ),
            )
          }
        >
          Accept {Object.values(waits).join(", ")} of {number}
        </button>
      )}
    </>
  );
}
