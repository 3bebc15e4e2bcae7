import { useEffect } from "react";
import type { Working } from "./client";

export interface BenchEvent {
  kind: "again" | "revision" | "state" | "progress";
  case?: string;
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
    const source = new EventSource("/api/events");
    source.onmessage = (message) => {
      const event = JSON.parse(message.data) as BenchEvent;
      channel.postMessage(event);
      give(event);
    };
    await new Promise(() => {});
  });
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
