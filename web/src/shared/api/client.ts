import createClient from "openapi-fetch";
import type { components, paths } from "./schema.gen";
import { sameAgain } from "./session";

type Schemas = components["schemas"];
export type Person = Schemas["Person"];
export type Me = Schemas["Me"];
export type Tray = Schemas["Tray"];
export type CaseOut = Schemas["CaseOut"];
export type NodeOut = Schemas["NodeOut"];
export type PieceOut = Schemas["PieceOut"];
export type StepOut = Schemas["StepOut"];
export type SettingOut = Schemas["SettingOut"];
export type Dropped = Schemas["Dropped"];
export type ToothOut = Schemas["ToothOut"];
export type Moved = Schemas["Moved"];
export type HistoryLine = Schemas["HistoryLine"];

export interface Place {
  piece: string;
  frame: string;
  point_mm: [number, number, number];
  radius_mm: number;
}
export interface Flag {
  id: string;
  code: string;
  severity: "note" | "look" | "stop";
  message: string;
  place: Place | null;
  fix?: { step: string; piece: string; values: Record<string, unknown> };
}
export interface Reading {
  name: string;
  value: number | string | boolean;
  unit: string;
}
export interface Working {
  node: string;
  fraction: number;
  what: string;
}

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
const copies = new Map<string, Request>();

client.use({
  onRequest({ request, id }) {
    request.headers.set("X-CSRFToken", csrfToken());
    copies.set(id, request.clone());
    return request;
  },
  async onResponse({ response, id }) {
    const copy = copies.get(id);
    copies.delete(id);
    if (response.status !== 401 || !copy || !(await sameAgain())) return response;
    const again = new Request(copy);
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
