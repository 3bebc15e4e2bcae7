import { useEffect } from "react";
import type { Me, Working } from "./client";
import { sameAgain, sender } from "./session";

export interface BenchEvent {
  kind: "again" | "revision" | "state" | "progress" | "bay";
  case?: string;
  plate?: string;
  revision?: number;
  working?: Record<string, Working>;
}

type Listener = (event: BenchEvent) => void;
const listeners = new Set<Listener>();
let started = false;

function give(event: BenchEvent) {
  for (const listener of listeners) listener(event);
}

/**
 * One stream for all tabs: the tab that holds the lock listens to the server and tells the others. When it closes,
 * the lock goes to the next.
 */
function start() {
  if (started) return;
  started = true;
  const channel = new BroadcastChannel("bench-events");
  channel.onmessage = (message) => give(message.data as BenchEvent);
  navigator.locks.request("bench-events", async () => {
    for (;;) {
      await listen((event) => {
        channel.postMessage(event);
        give(event);
      });
      await heardAgain();
    }
  });
}

/** Until the stream is closed for good: a broken line the browser mends by itself. */
function listen(hear: (event: BenchEvent) => void): Promise<void> {
  return new Promise((done) => {
    const source = new EventSource("/api/events");
    source.onmessage = (message) => hear(JSON.parse(message.data) as BenchEvent);
    source.onerror = () => {
      if (source.readyState === EventSource.CLOSED) done();
    };
  });
}

/** The server ends a stream with its session: then somebody has to sign in first. */
async function heardAgain() {
  const sent = sender();
  try {
    const me = (await (await fetch("/api/me")).json()) as Me;
    if (!me.person && (await sameAgain(sent))) return;
  } catch {
    // The server is away for a moment.
  }
  await new Promise((done) => setTimeout(done, 2000));
}

export function useBenchEvents(listener: Listener) {
  useEffect(() => {
    start();
    listeners.add(listener);
    return () => {
      listeners.delete(listener);
    };
  }, [listener]);
}
