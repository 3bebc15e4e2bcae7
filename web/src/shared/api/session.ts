import { create } from "zustand";

interface Session {
  /** The session ended while somebody was at work: what they have open stays, and they sign in over it. */
  ended: boolean;
  person: number | null;
  end: () => void;
  begin: (person: number | null) => void;
}

let waiting: ((person: number | null) => void)[] = [];

export const useSession = create<Session>((set) => ({
  ended: false,
  person: null,
  end: () => set({ ended: true }),
  begin: (person) => {
    set({ ended: false, person });
    const all = waiting;
    waiting = [];
    for (const done of all) done(person);
  },
}));

/** Who signs in after the session has ended: whatever was on its way goes on then. Only where it is the same person. */
export async function sameAgain(): Promise<boolean> {
  const before = useSession.getState().person;
  if (before === null) return false;
  useSession.getState().end();
  const person = await new Promise<number | null>((done) => waiting.push(done));
  return person === before;
}
