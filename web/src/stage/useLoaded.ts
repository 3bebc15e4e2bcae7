import { useThree } from "@react-three/fiber";
import { useEffect, useState } from "react";
import { sayError } from "../store/notices";
import { acquire, type Loaded, release } from "./loader";

/** A mesh on the stage; ofFile : in the unit of the scan's file, for Intake has not spoken yet. */
export interface OnStage {
  loaded: Loaded;
  ofFile: boolean;
}

/**
 * The mesh of a digest; of a scan (early : its file) a light copy first and then the file's own surface, which mostly
 * is that of the digest too. What was there stays until the better is there.
 */
export function useLoaded(digest: string | null, early: string | null): OnStage | null {
  const [shown, setShown] = useState<OnStage | null>(null);
  const invalidate = useThree((s) => s.invalidate);

  useEffect(() => {
    let here = true;
    const held: [string, "light" | "full"][] = [];
    const take = (of: string, kind: "light" | "full") => {
      held.push([of, kind]);
      return acquire(of, kind);
    };
    const show = (loaded: Loaded, ofFile: boolean) => {
      if (!here) return;
      // Whatever is there in full already is better than a light copy.
      setShown((now) => (loaded.light && now ? now : { loaded, ofFile }));
      invalidate();
    };
    async function come() {
      const light = early ? await take(early, "light").catch(() => null) : null;
      if (light) show(light, true);
      if (!here) return;
      if (early && light && (!digest || light.digest === digest)) {
        const all = await take(early, "full").catch(() => null);
        if (all) return show(all, true);
      }
      if (digest && here) show(await take(digest, "full"), false);
    }
    come().catch((error) => here && sayError(error));
    return () => {
      here = false;
      for (const [of, kind] of held) release(of, kind);
    };
  }, [digest, early, invalidate]);
  return shown;
}
