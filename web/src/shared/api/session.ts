import { create } from "zustand";

interface Session {
  /** The session ended while somebody was at work: what they have open stays, and they sign in over it. */
  ended: boolean;
  person: number | null;
  /** How many have signed in since the page was opened: what was sent before a sign-in is told from what came after. */
  entries: number;
  end: () => void;
  begin: (person: number | null) => void;
}

let waiting: ((person: number | null) => void)[] = [];

export const useSession = create<Session>((set) => ({
  ended: false,
  person: null,
  entries: 0,
  end: () => set({ ended: true }),
  begin: (person) => {
    set((s) => ({ ended: false, person, entries: s.entries + 1 }));
    const all = waiting;
    waiting = [];
    for (const done of all) done(person);
  },
}));

/** Whose session something is sent in. */
export interface Sender {
  person: number | null;
  entries: number;
}

export function sender(): Sender {
  const { person, entries } = useSession.getState();
  return { person, entries };
}

/**
 * Who signs in after the session has ended: whatever was on its way goes on then. Only where it is the same person.
 * An answer that comes late, to what was sent before somebody signed in again, does not ask once more.
 */
export async function sameAgain(sent: Sender): Promise<boolean> {
  if (sent.person === null) return false;
  const now = useSession.getState();
  if (now.entries !== sent.entries) return now.person === sent.person;
  now.end();
  const person = await new Promise<number | null>((done) => waiting.push(done));
  return person === sent.person;
}
