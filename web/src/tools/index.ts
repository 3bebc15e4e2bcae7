import type { Tool } from "../stage";

// One folder for each tool that is of use at every step.
const found = import.meta.glob<{ default: Tool }>("./*/index.tsx", { eager: true });

export const TOOLS: Tool[] = Object.values(found).map((module) => module.default);
