import { useEffect, useState } from 'react';

const SETTLED_AFTER_MS = 400;

/** A value as it was when it last stayed the same for a while: what is typed is not asked about at each key. */
export function useSettled<T>(value: T): T {
  const [settled, setSettled] = useState(value);
  useEffect(() => {
    const timer = setTimeout(() => setSettled(value), SETTLED_AFTER_MS);
    return () => clearTimeout(timer);
  }, [value]);
  return settled;
}
