import { useEffect, useState } from 'react';

/** A state that survives a reload of the page until it is dropped: in this window, as what was typed in a form, or in all of this browser. */
export function useKept<T>(key: string, first: T, storage: Storage = sessionStorage): [T, (value: T) => void, () => void] {
  const [value, setValue] = useState<T>(() => read(storage, key) ?? first);
  const [isDropped, setDropped] = useState(false);
  useEffect(() => {
    if (isDropped) storage.removeItem(key);
    else storage.setItem(key, JSON.stringify(value));
  }, [storage, key, value, isDropped]);
  const drop = () => {
    setDropped(true);
    storage.removeItem(key);
  };
  return [value, setValue, drop];
}

/** What is typed in a dialog: it survives a reload of the page, and is dropped when the dialog closes. */
export function useTyped<T>(key: string, first: T): [T, (value: T) => void] {
  const [value, setValue] = useKept(key, first);
  useEffect(() => () => sessionStorage.removeItem(key), [key]);
  return [value, setValue];
}

function read<T>(storage: Storage, key: string): T | undefined {
  try {
    return JSON.parse(storage.getItem(key) ?? 'null') ?? undefined;
  } catch {
    return undefined;
  }
}
