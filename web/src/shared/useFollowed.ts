import { useCallback, useEffect, useRef, useState } from "react";

/** Pictures that follow a number as fast as they come: the next is asked for when the last is there, so that none on the way is broken off
 * by the next. Gives the number whose picture is asked for, and what to call once that picture is there or does not come. */
export function useFollowed(wanted: number): [number, () => void] {
  const [asked, ask] = useState(wanted);
  const latest = useRef(wanted);
  const loading = useRef(true);
  latest.current = wanted;
  useEffect(() => {
    if (loading.current || wanted === asked) return;
    loading.current = true;
    ask(wanted);
  }, [wanted, asked]);
  const came = useCallback(() => {
    loading.current = false;
    ask((now) => {
      if (now !== latest.current) loading.current = true;
      return latest.current;
    });
  }, []);
  return [asked, came];
}
