import { create } from "zustand";

interface Question {
  text: string;
  /** What the button says that does it. */
  yes: string;
}

interface Asking {
  open: (Question & { answer: (yes: boolean) => void }) | null;
}

/** A question that is asked before something is done. */
export const useAsking = create<Asking>(() => ({ open: null }));

export function asked(question: Question): Promise<boolean> {
  return new Promise((done) => {
    const answer = (yes: boolean) => {
      useAsking.setState({ open: null });
      done(yes);
    };
    useAsking.setState({ open: { ...question, answer } });
  });
}
