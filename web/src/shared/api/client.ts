import createClient from "openapi-fetch";
import type { components, paths } from "./schema.gen";
import { type Sender, sameAgain, sender } from "./session";

type Schemas = components["schemas"];
export type Person = Schemas["Person"];
export type Me = Schemas["Me"];
export type Tray = Schemas["Tray"];
export type CaseOut = Schemas["CaseOut"];
export type NodeOut = Schemas["CaseOut"]["nodes"][number];
export type NodeDetail = Schemas["CaseOut"]["opened"][number];
export type Flag = Schemas["FlagOut"];
export type FixOut = Schemas["FixOut"];
export type FixMore = Schemas["FixMore"];
export type DoubtOut = Schemas["DoubtOut"];
export type Doubts = Schemas["Doubts"];
export type Reading = Schemas["ReadingOut"];
export type Working = Schemas["WorkingOut"];
export type PieceOut = Schemas["PieceOut"];
export type StepOut = Schemas["StepOut"];
export type SettingOut = Schemas["SettingOut"];
export type Dropped = Schemas["Dropped"];
export type ToothOut = Schemas["ToothOut"];
export type Moved = Schemas["Moved"];
export type Bay = Schemas["BayOut"];
export type Print = Schemas["PrintOut"];
export type Bottle = Schemas["BottleOut"];
export type Plate = Schemas["PlateOut"];
export type PlateBody = Schemas["PlateBodyOut"];
export type PlateLine = Schemas["PlateLine"];
export type ReadyBody = Schemas["ReadyOut"];
export type ProofSection = Schemas["ProofSection"];
export type HistoryLine = Schemas["HistoryLine"];

/** What the server says when something cannot be done: one sentence and a stable code. */
export class Said extends Error {
  constructor(
    message: string,
    readonly code: string,
    readonly status: number,
    readonly more: Record<string, unknown> = {},
  ) {
    super(message);
  }
}

export const client = createClient<paths>({ baseUrl: "" });

export function csrfToken(): string {
  return /(?:^|; )csrftoken=([^;]+)/.exec(document.cookie)?.[1] ?? "";
}

// A request can be read once: this is what is sent again after the session had ended.
const copies = new Map<string, { request: Request; sent: Sender }>();

client.use({
  onRequest({ request, id }) {
    request.headers.set("X-CSRFToken", csrfToken());
    copies.set(id, { request: request.clone(), sent: sender() });
    return request;
  },
  async onResponse({ response, id }) {
    const copy = copies.get(id);
    copies.delete(id);
    if (response.status !== 401 || !copy || !(await sameAgain(copy.sent))) return response;
    const again = new Request(copy.request);
    again.headers.set("X-CSRFToken", csrfToken());
    return fetch(again);
  },
  onError({ id }) {
    copies.delete(id);
  },
});

export function said(status: number, body: unknown): Said {
  const known = body as { message?: string; code?: string } | undefined;
  if (known?.message) return new Said(known.message, known.code ?? "error", status, known as Record<string, unknown>);
  return new Said(
    "The server does not answer as expected. Nothing is lost; try again in a moment.",
    "no-answer",
    status,
  );
}

/** The data of a call, or a thrown Said. */
export async function ok<T>(call: Promise<{ data?: T; error?: unknown; response: Response }>): Promise<T> {
  let result: { data?: T; error?: unknown; response: Response };
  try {
    result = await call;
  } catch {
    throw new Said("The server cannot be reached. What you see stays; it goes on when it answers again.", "offline", 0);
  }
  if (!result.response.ok) throw said(result.response.status, result.error);
  return result.data as T;
}

type Called = Promise<{ data?: unknown; error?: unknown; response: Response }>;

/** The case that a call answers with. The client's own types lose tuples within tuples: these are those of the description. */
export async function okCase(call: Called): Promise<CaseOut> {
  return (await ok(call)) as CaseOut;
}

/** The same of a plate. */
export async function okPlate(call: Called): Promise<Plate> {
  return (await ok(call)) as Plate;
}
