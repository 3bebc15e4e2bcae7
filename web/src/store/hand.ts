import { asked } from "./asking";

/** What the tool in the hand has begun and not ended: a fence with corners, a saw with two of its points. */
interface Begun {
  /** What it is called in the question. */
  what: string;
  /** Is there something of it now? */
  is: () => boolean;
  /** Ends it as Enter does; absent where Enter means nothing to it. */
  end?: () => void;
  /** Takes the last of it back. */
  back?: () => void;
  forget: () => void;
}

let inHand: Begun | null = null;

/** Called by a tool while it is in the hand. */
export function holdBegun(begun: Begun): () => void {
  inHand = begun;
  return () => {
    if (inHand === begun) inHand = null;
  };
}

export const begun = (): Begun | null => (inHand?.is() ? inHand : null);

/** Is Enter the tool's own? */
export const ends = (): boolean => inHand?.end !== undefined;

/** Go away from what is open: what was begun is not lost without a word. */
export async function leave(then: () => void): Promise<void> {
  const left = begun();
  if (left && !(await asked({ text: `${left.what} is not finished. Leave it?`, yes: "Leave it" }))) return;
  left?.forget();
  then();
}
