import { useEffect, useState } from 'react';

/** A state that survives a reload of the page, in this window, until it is dropped: what was typed in a form and is not sent yet. */
export function useKept<T>(key: string, first: T): [T, (value: T) => void, () => void] {
  const [value, setValue] = useState<T>(() => read(key) ?? first);
  const [isDropped, setDropped] = useState(false);
  useEffect(() => {
    if (isDropped) sessionStorage.removeItem(key);
    else sessionStorage.setItem(key, JSON.stringify(value));
  }, [key, value, isDropped]);
  const drop = () => {
    setDropped(true);
    sessionStorage.removeItem(key);
  };
  return [value, setValue, drop];
}

function read<T>(key: string): T | undefined {
  try {
    return JSON.parse(sessionStorage.getItem(key) ?? 'null') ?? undefined;
  } catch {
    return undefined;
  }
}
