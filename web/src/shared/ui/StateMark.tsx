import type { components } from "../api/schema.gen";

type Schemas = components["schemas"];

/** The state of a step as a shape: never by colour alone. */
export type StepState = Schemas["TrayState"]["state"];

export const STATE_WORDS: Record<StepState, string> = {
  done: "done",
  look: "needs a look",
  failed: "failed",
  working: "working",
  stale: "out of date",
  todo: "to do",
  off: "off",
};

export function StateMark({ state, size = 16, share }: { state: StepState; size?: number; share?: number }) {
  const common = {
    width: size,
    height: size,
    viewBox: "0 0 16 16",
    "aria-hidden": true,
    className: "shrink-0",
  } as const;
  if (state === "done")
    return (
      <svg {...common}>
        <title>done</title>
        <rect x="1.5" y="1.5" width="13" height="13" rx="2.5" fill="var(--color-primary)" />
        <path d="M4.4 8.2l2.4 2.5 4.8-5.2" fill="none" stroke="var(--color-primary-content)" strokeWidth="1.9" />
      </svg>
    );
  if (state === "look")
    return (
      <svg {...common}>
        <title>needs a look</title>
        <path
          d="M8 1.6L15 14.2H1z"
          fill="var(--look-ground)"
          stroke="var(--color-warning)"
          strokeWidth="1.6"
          strokeLinejoin="round"
        />
      </svg>
    );
  if (state === "failed")
    return (
      <svg {...common}>
        <title>failed</title>
        <path d="M5 1h6l4 4v6l-4 4H5l-4-4V5z" fill="var(--color-error)" />
        <path d="M5.2 5.2l5.6 5.6m0-5.6l-5.6 5.6" stroke="var(--color-error-content)" strokeWidth="1.8" />
      </svg>
    );
  if (state === "working") {
    const turn = 2 * Math.PI * 5.6;
    return (
      <svg {...common}>
        <title>working</title>
        <circle cx="8" cy="8" r="5.6" fill="var(--color-base-100)" stroke="var(--line)" strokeWidth="2.6" />
        <circle
          cx="8"
          cy="8"
          r="5.6"
          fill="none"
          stroke="var(--color-primary)"
          strokeWidth="2.6"
          strokeDasharray={`${turn * Math.max(share ?? 0.15, 0.08)} ${turn}`}
          transform="rotate(-90 8 8)"
        />
      </svg>
    );
  }
  if (state === "off")
    return (
      <svg {...common}>
        <title>off</title>
        <path d="M3 8h10" stroke="var(--dim)" strokeWidth="1.8" strokeLinecap="round" />
      </svg>
    );
  if (state === "stale")
    return (
      <svg {...common}>
        <title>out of date</title>
        <circle cx="8" cy="8" r="6" fill="var(--color-base-100)" stroke="var(--dim)" strokeWidth="1.6" />
        <path d="M8 2a6 6 0 010 12z" fill="var(--dim)" />
      </svg>
    );
  return (
    <svg {...common}>
      <title>to do</title>
      <circle
        cx="8"
        cy="8"
        r="5.8"
        fill="var(--color-base-100)"
        stroke="var(--dim)"
        strokeWidth="1.5"
        strokeDasharray="2.6 2"
      />
    </svg>
  );
}
