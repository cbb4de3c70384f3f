import { useSearchParams } from 'react-router';

/** The parameters of the address, and a function that sets some of them; what is empty goes. */
export function useParameters(): [URLSearchParams, (values: Record<string, string | null>) => void] {
  const [parameters, setParameters] = useSearchParams();
  const set = (values: Record<string, string | null>) =>
    setParameters((before) => {
      const after = new URLSearchParams(before);
      for (const [name, value] of Object.entries(values)) {
        if (value) after.set(name, value);
        else after.delete(name);
      }
      return after;
    });
  return [parameters, set];
}
