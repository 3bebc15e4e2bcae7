import { useThree } from "@react-three/fiber";
import { useEffect } from "react";
import { say } from "../store/notices";

/** While a tool that presses on surfaces is in the hand: a press that meets none is said. */
export function MissedPress() {
  const set = useThree((state) => state.set);
  useEffect(() => {
    set({ onPointerMissed: () => say("Nothing of a model is there.", "calm") });
    return () => set({ onPointerMissed: undefined });
  }, [set]);
  return null;
}
