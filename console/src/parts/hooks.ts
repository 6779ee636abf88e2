import { useEffect, useState } from "react";

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
