import { useThree } from "@react-three/fiber";
import { useEffect, useState } from "react";
import { sayError } from "../../store/notices";
import { acquire, type Loaded, release } from "./loader";

/** The mesh of a digest: of a scan the light copy first, then the full one; the old stays until the new is there. */
export function useLoaded(digest: string, light: boolean): Loaded | null {
  const [loaded, setLoaded] = useState<Loaded | null>(null);
  const invalidate = useThree((s) => s.invalidate);
  useEffect(() => {
    let here = true;
    let full = false;
    const kinds: ("light" | "full")[] = light ? ["light", "full"] : ["full"];
    for (const kind of kinds)
      acquire(digest, kind).then(
        (got) => {
          if (!here || (kind === "light" && full)) return;
          full = full || kind === "full";
          setLoaded(got);
          invalidate();
        },
        (error) => here && kind === "full" && sayError(error),
      );
    return () => {
      here = false;
      for (const kind of kinds) release(digest, kind);
    };
  }, [digest, light, invalidate]);
  return loaded;
}
