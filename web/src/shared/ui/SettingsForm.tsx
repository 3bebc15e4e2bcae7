import { useId, useState } from "react";
import type { SettingOut } from "../api/client";
import { capital } from "../format";
import { NumberField } from "./NumberField";

interface Props {
  settings: SettingOut[];
  values: Record<string, unknown>;
  /** Whose value counts, of those that are not the step's own default: house, purpose, practice, case or piece. */
  whose: Record<string, string>;
  auto?: Record<string, string>;
  /** {step.setting: name} of what the house has changed since it was chosen; onRenew takes all of it up. */
  newer?: Record<string, string>;
  onRenew?: () => void;
  disabled?: boolean;
  onSet: (key: string, value: unknown) => void;
  onClear: (key: string) => void;
}

/** The form of a step, read off its one settings model. The main settings stand open, the rest is folded. */
export function SettingsForm({ settings, ...rest }: Props) {
  const [open, setOpen] = useState(false);
  const ofUse = settings.filter((s) =>
    Object.entries(s.when).every(([key, any]) => any.includes(String(rest.values[key] ?? null))),
  );
  const main = ofUse.filter((s) => s.main);
  const more = ofUse.filter((s) => !s.main);
  const changed = more.some((s) => OWN.has(rest.whose[s.key] ?? ""));
  return (
    <div>
      {main.map((s) => (
        <Row key={s.key} setting={s} {...rest} />
      ))}
      {more.length > 0 && (
        <button
          type="button"
          aria-expanded={open}
          onClick={() => setOpen(!open)}
          className="dim mt-1 flex w-full items-center gap-1 py-1 text-left font-semibold"
        >
          <span aria-hidden="true">{open ? "▾" : "▸"}</span> More settings{" "}
          {changed && <span className="text-accent">•</span>}
        </button>
      )}
      {open && more.map((s) => <Row key={s.key} setting={s} {...rest} />)}
    </div>
  );
}

// Values a person gave this case carry a full dot, which takes them back; those of the house a ring.
const OWN = new Set(["case", "piece"]);
const GIVEN = new Set(["house", "purpose", "practice"]);

type RowProps = Omit<Props, "settings"> & { setting: SettingOut };

function Row({ newer, onRenew, ...row }: RowProps) {
  const name = newer?.[`${row.setting.step}.${row.setting.key}`];
  return (
    <>
      <Line {...row} />
      {name && (
        <p className="flex gap-2 pb-1 text-[13px] text-warning">
          <span className="min-w-0 flex-1">▲ The house has changed {name} since.</span>
          <button
            type="button"
            className="font-semibold whitespace-nowrap text-primary"
            disabled={row.disabled}
            onClick={onRenew}
          >
            Take that
          </button>
        </p>
      )}
    </>
  );
}

function Line({ setting, values, whose, auto, disabled, onSet, onClear }: Omit<RowProps, "newer" | "onRenew">) {
  const id = useId();
  const value = values[setting.key];
  return (
    <div className="flex min-h-9 items-center justify-between gap-2 py-0.5" title={setting.help}>
      <span className="flex min-w-0 items-center gap-1.5">
        {OWN.has(whose[setting.key] ?? "") && (
          <button
            type="button"
            className="text-lg leading-none text-accent"
            aria-label={`${setting.label}: back to the default`}
            title={`Set for this ${whose[setting.key]}. Press to take it back.`}
            disabled={disabled}
            onClick={() => onClear(setting.key)}
          >
            •
          </button>
        )}
        {GIVEN.has(whose[setting.key] ?? "") && (
          <span className="dim text-lg leading-none" title={`From the ${whose[setting.key]}'s defaults.`}>
            ◦
          </span>
        )}
        <label htmlFor={id}>{setting.label}</label>
      </span>
      <Field id={id} setting={setting} value={value} auto={auto?.[setting.key]} disabled={disabled} onSet={onSet} />
    </div>
  );
}

interface FieldProps {
  id: string;
  setting: SettingOut;
  value: unknown;
  auto?: string;
  disabled?: boolean;
  onSet: (key: string, value: unknown) => void;
}

function Field({ id, setting, value, auto, disabled, onSet }: FieldProps) {
  if (setting.type === "boolean")
    return (
      <input
        id={id}
        type="checkbox"
        className="toggle toggle-primary toggle-sm"
        checked={value === true}
        disabled={disabled}
        onChange={(e) => onSet(setting.key, e.target.checked)}
      />
    );
  if (setting.type === "choice")
    return (
      <select
        id={id}
        className="select select-sm w-36"
        value={String(value)}
        disabled={disabled}
        onChange={(e) => onSet(setting.key, e.target.value)}
      >
        {setting.choices.map((choice) => (
          <option key={choice} value={choice}>
            {setting.labels[choice] ?? capital(choice)}
          </option>
        ))}
      </select>
    );
  if (setting.type === "number" || setting.type === "integer")
    return (
      <NumberField
        id={id}
        value={typeof value === "number" ? value : null}
        unit={setting.unit}
        optional={setting.optional}
        auto={auto}
        least={setting.least}
        most={setting.most}
        whole={setting.type === "integer"}
        disabled={disabled}
        onSet={(next) => onSet(setting.key, next)}
      />
    );
  return (
    <TextField id={id} value={String(value ?? "")} disabled={disabled} onSet={(next) => onSet(setting.key, next)} />
  );
}

function TextField({
  id,
  value,
  disabled,
  onSet,
}: {
  id: string;
  value: string;
  disabled?: boolean;
  onSet: (v: string) => void;
}) {
  return (
    <input
      id={id}
      key={value}
      className="input input-sm w-40"
      defaultValue={value}
      disabled={disabled}
      onBlur={(e) => e.target.value !== value && onSet(e.target.value)}
      onKeyDown={(e) => {
        if (e.key === "Enter") {
          e.stopPropagation();
          e.currentTarget.blur();
        }
      }}
    />
  );
}
