import { create } from "zustand";

/** Models a tool is going to be pressed on whose full surface is not here yet: a press on one of these is lost. */
export const useAwaited = create<{ keys: ReadonlySet<string> }>(() => ({ keys: new Set() }));

/** key is awaited until what is given back is called. */
export function awaited(key: string): () => void {
  useAwaited.setState(({ keys }) => ({ keys: new Set([...keys, key]) }));
  return () => useAwaited.setState(({ keys }) => ({ keys: new Set([...keys].filter((k) => k !== key)) }));
}
