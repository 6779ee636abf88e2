import { useEffect, useState, useSyncExternalStore } from "react";

// A value that follows another when it has not changed for a while.
export function useSettled<T>(value: T, milliseconds: number): T {
  const [settled, setSettled] = useState(value);
  const text = JSON.stringify(value);
  useEffect(() => {
    const timer = setTimeout(() => setSettled(JSON.parse(text)), milliseconds);
    return () => clearTimeout(timer);
  }, [text, milliseconds]);
  return settled;
}

const narrow = matchMedia("(max-width: 47.99rem)");

// Whether the screen is a phone's: narrower than the breakpoint md.
export function useNarrow(): boolean {
  return useSyncExternalStore(
    (changed) => {
      narrow.addEventListener("change", changed);
      return () => narrow.removeEventListener("change", changed);
    },
    () => narrow.matches,
  );
}
