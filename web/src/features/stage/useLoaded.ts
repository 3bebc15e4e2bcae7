import { useThree } from "@react-three/fiber";
import { useEffect, useState } from "react";
import { sayError } from "../../store/notices";
import { acquire, type Loaded, release } from "./loader";

/** The mesh of a digest; of a scan the early light copy first. The old one stays until the new is there. */
export function useLoaded(digest: string | null, early: string | null): Loaded | null {
  const [loaded, setLoaded] = useState<Loaded | null>(null);
  const invalidate = useThree((s) => s.invalidate);

  useEffect(() => {
    if (!early) return;
    let here = true;
    acquire(early, "light").then(
      (got) => {
        // Whatever is there in full already is better.
        if (here) setLoaded((now) => now ?? got);
        invalidate();
      },
      () => {},
    );
    return () => {
      here = false;
      release(early, "light");
    };
  }, [early, invalidate]);

  useEffect(() => {
    if (!digest) return;
    let here = true;
    acquire(digest, "full").then(
      (got) => {
        if (!here) return;
        setLoaded(got);
        invalidate();
      },
      (error) => here && sayError(error),
    );
    return () => {
      here = false;
      release(digest, "full");
    };
  }, [digest, invalidate]);
  return loaded;
}
