import { useRef } from "react";

/** The value of the last time as long as it says the same: what hangs on it is not done again. */
export function useSame<T>(value: T): T {
  const kept = useRef({ value, says: "" });
  const says = JSON.stringify(value) ?? "";
  if (says !== kept.current.says) kept.current = { value, says };
  return kept.current.value;
}
