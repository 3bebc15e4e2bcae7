import type { StepUi } from "../stage";

// One folder for each step that brings more than its settings.
const found = import.meta.glob<{ default: StepUi }>("./*/index.tsx", { eager: true });

const STEPS = new Map(Object.values(found).map((module) => [module.default.name, module.default]));

/** What a step brings to the bench; of one without a folder the bodies and the form of its settings. */
export function uiOf(step: string): StepUi {
  return STEPS.get(step) ?? { name: step };
}

export const STEP_UIS: StepUi[] = [...STEPS.values()];
