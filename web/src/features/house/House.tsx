import { useMutation, useQuery, useQueryClient } from "@tanstack/react-query";
import { useRef, useState } from "react";
import { client, ok, type StepOut } from "../../shared/api/client";
import { SettingsForm } from "../../shared/ui/SettingsForm";
import { TopBar } from "../../shared/ui/TopBar";
import { say, sayError } from "../../store/notices";
import { type ShelfRecord, Shelves, useShelfWork, useShelves } from "./Shelves";

/** What a scan is and how it is turned is each case's own: there is no house rule for it. */
function houseSteps(steps: StepOut[] | undefined): StepOut[] {
  return (steps ?? []).filter((s) => s.name !== "intake" && s.name !== "level");
}

/** The lab's own defaults for every step. New cases begin with them; cases that exist keep theirs. */
export function House() {
  const queries = useQueryClient();
  const me = useQuery({ queryKey: ["me"], queryFn: () => ok(client.GET("/api/me")), staleTime: 60_000 });
  const steps = useQuery({
    queryKey: ["steps"],
    queryFn: () => ok(client.GET("/api/cases/steps")),
    staleTime: 600_000,
  });
  const house = useQuery({ queryKey: ["house"], queryFn: () => ok(client.GET("/api/house")) });
  const lead = me.data?.person?.lead ?? false;
  const change = useMutation({
    mutationFn: (body: { step: string; values: Record<string, unknown> }) => ok(client.POST("/api/house", { body })),
    onSuccess: (data) => {
      queries.setQueryData(["house"], data);
      say("Kept as the house's default for new cases.");
    },
    onError: sayError,
  });
  const general = useMutation({
    mutationFn: (values: Record<string, number | string | null>) =>
      ok(client.POST("/api/house/general", { body: { values } })),
    onSuccess: (data) => {
      queries.setQueryData(["house"], data);
      say("Kept. It counts from now on.");
    },
    onError: sayError,
  });
  const shelves = useShelves();
  const { put } = useShelfWork();
  // Whose defaults the forms show: the house's, or those of a purpose or a practice.
  const forms = useRef<HTMLDivElement>(null);
  const [whose, setWhose] = useState<{ shelf: string; ident: string } | null>(null);
  const record = whose ? shelves.data?.[whose.shelf]?.find((r) => r.id === whose.ident) : undefined;
  const kept = (step: string): Record<string, unknown> => (record ? record.steps : house.data?.steps)?.[step] ?? {};
  function keep(step: string, values: Record<string, unknown>) {
    if (whose && record) put({ shelf: whose.shelf, ...record, steps: { ...record.steps, [step]: values } });
    else change.mutate({ step, values });
  }
  // A step's card holds the settings of its parts too.
  const own = (step: StepOut) => Object.assign({}, ...[...new Set(step.settings.map((s) => s.step))].map(kept));
  const of = (step: StepOut, key: string) => step.settings.find((s) => s.key === key)?.step ?? step.name;
  function set(step: StepOut, key: string, value: unknown) {
    const name = of(step, key);
    keep(name, { ...kept(name), [key]: value });
  }
  function clear(step: StepOut, key: string) {
    const name = of(step, key);
    const { [key]: _, ...rest } = kept(name);
    keep(name, rest);
  }
  return (
    <div className="flex h-full flex-col bg-base-200">
      <TopBar />
      <main className="min-h-0 flex-1 overflow-y-auto px-6 py-4">
        <h1 className="text-2xl font-bold">House settings</h1>
        <p className="dim mb-4">
          What each step begins with in a new case. Cases that are open keep what they began with.
          {lead ? "" : " Only a lead changes them."}
        </p>
        {(steps.error ?? house.error) && (
          <p role="alert" className="text-warning">
            ▲ {(steps.error ?? house.error)?.message}
          </p>
        )}
        <section className="line mb-4 flex items-center gap-3 rounded-box border bg-base-100 p-4">
          <h2 className="font-bold">Keeping</h2>
          <label className="flex items-center gap-2">
            Closed cases are kept for
            <input
              className="input input-sm w-20"
              type="number"
              min={0}
              max={60}
              disabled={!lead}
              key={house.data?.general.retention_years}
              defaultValue={house.data?.general.retention_years ?? 7}
              onBlur={(e) => {
                const years = Number(e.target.value);
                if (years !== house.data?.general.retention_years) general.mutate({ retention_years: years });
              }}
              onKeyDown={(e) => e.key === "Enter" && e.currentTarget.blur()}
            />
            years
          </label>
          <p className="dim">The law of the country decides. Before that only a lead deletes a case.</p>
          <label className="ml-auto flex items-center gap-2 whitespace-nowrap">
            A whole case is called
            <input
              className="input input-sm w-56"
              disabled={!lead}
              title="From {number}, {patient}, {practice} and {date}"
              key={house.data?.general.case_name}
              defaultValue={house.data?.general.case_name ?? ""}
              onBlur={(e) => {
                const name = e.target.value.trim();
                if (name && name !== house.data?.general.case_name) general.mutate({ case_name: name });
              }}
              onKeyDown={(e) => e.key === "Enter" && e.currentTarget.blur()}
            />
          </label>
        </section>
        <Accepted house={house.data} lead={lead} onSet={(values) => general.mutate(values)} />
        <div ref={forms}>
          <Whose shelves={shelves.data} whose={whose} choose={setWhose} />
        </div>
        <div className="columns-1 gap-4 lg:columns-3">
          {house.data &&
            houseSteps(steps.data).map((step) => (
              <section key={step.name} className="line mb-4 break-inside-avoid rounded-box border bg-base-100 p-4">
                <h2 className="font-bold">
                  <span className="dim font-normal">{step.number}</span> {step.title}
                </h2>
                <p className="dim mb-2">{step.about}</p>
                <SettingsForm
                  settings={step.settings.filter((s) => !s.per_jaw)}
                  values={{ ...Object.fromEntries(step.settings.map((s) => [s.key, s.default])), ...own(step) }}
                  whose={Object.fromEntries(Object.keys(own(step)).map((key) => [key, "case"]))}
                  disabled={!lead}
                  onSet={(key, value) => set(step, key, value)}
                  onClear={(key) => clear(step, key)}
                />
              </section>
            ))}
        </div>
        <Shelves
          lead={lead}
          choose={(shelf, ident) => {
            setWhose({ shelf, ident });
            forms.current?.scrollIntoView({ block: "start" });
          }}
        />
      </main>
    </div>
  );
}

interface WhoseProps {
  shelves: Record<string, ShelfRecord[]> | undefined;
  whose: { shelf: string; ident: string } | null;
  choose: (whose: { shelf: string; ident: string } | null) => void;
}

/** Whose settings the forms below show. A practice's go before a purpose's, and those before the house's. */
function Whose({ shelves, whose, choose }: WhoseProps) {
  return (
    <label className="mb-3 flex items-center gap-2">
      <span className="font-bold">What cases begin with, of</span>
      <select
        className="select select-sm w-72"
        value={whose ? `${whose.shelf}/${whose.ident}` : ""}
        onChange={(e) => {
          const [shelf, ident] = e.target.value.split("/");
          choose(shelf && ident ? { shelf, ident } : null);
        }}
      >
        <option value="">the house</option>
        {["purpose", "practice"].map((shelf) => (
          <optgroup key={shelf} label={`a ${shelf}`}>
            {(shelves?.[shelf] ?? []).map((record) => (
              <option key={record.id} value={`${shelf}/${record.id}`}>
                {record.name}
              </option>
            ))}
          </optgroup>
        ))}
      </select>
      <span className="dim">A practice's settings go before a purpose's, and those before the house's.</span>
    </label>
  );
}

/** Results of earlier settings are kept for undo as long as there is room. */
function Results({ house, lead, onSet }: AcceptedProps) {
  const kept = house?.general.results_gb ?? "";
  return (
    <label className="flex items-center gap-2 whitespace-nowrap">
      Results of earlier settings, up to
      <input
        className="input input-sm w-20"
        type="number"
        min={1}
        disabled={!lead}
        title="Above this much, those longest unused are dropped; undo works them out again"
        key={String(kept)}
        defaultValue={kept}
        onBlur={(e) => {
          const gb = Number(e.target.value);
          if (gb && gb !== kept) onSet({ results_gb: gb });
        }}
        onKeyDown={(e) => e.key === "Enter" && e.currentTarget.blur()}
      />
      GB
    </label>
  );
}

const LIMITS = [
  { key: "triangles", label: "Triangles a scan", kept: "triangles", per: 1 },
  { key: "drop_mb", label: "MB a drop", kept: "drop_bytes", per: 1_000_000 },
  { key: "read_s", label: "Seconds to read a scan", kept: "read_seconds", per: 1 },
  { key: "read_mb", label: "MB of memory to read it", kept: "read_bytes", per: 1_000_000 },
] as const;

interface AcceptedProps {
  house: { general: Record<string, number | string | null>; limits: Record<string, number> } | undefined;
  lead: boolean;
  onSet: (values: Record<string, number | null>) => void;
}

/** How large what comes in may be. An empty field: as the installation was started. */
function Accepted({ house, lead, onSet }: AcceptedProps) {
  if (!house) return null;
  return (
    <section className="line mb-4 flex flex-wrap items-center gap-x-5 gap-y-2 rounded-box border bg-base-100 p-4">
      <h2 className="font-bold">What is accepted</h2>
      {LIMITS.map((limit) => {
        const own = house.general[limit.key] ?? "";
        return (
          <label key={limit.key} className="flex items-center gap-2 whitespace-nowrap">
            {limit.label}
            <input
              className="input input-sm w-28"
              type="number"
              min={1}
              disabled={!lead}
              key={String(own)}
              defaultValue={own}
              placeholder={String((house.limits[limit.kept] ?? 0) / limit.per)}
              onBlur={(e) => {
                const value = e.target.value.trim();
                if (value !== String(own)) onSet({ [limit.key]: value === "" ? null : Number(value) });
              }}
              onKeyDown={(e) => e.key === "Enter" && e.currentTarget.blur()}
            />
          </label>
        );
      })}
      <Results house={house} lead={lead} onSet={onSet} />
      <p className="dim">What is larger, or takes longer to read, is refused with a sentence. Empty: as started.</p>
    </section>
  );
}
