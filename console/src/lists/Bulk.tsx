import Alert from '@mui/material/Alert';
import Box from '@mui/material/Box';
import Button from '@mui/material/Button';
import Typography from '@mui/material/Typography';
import { useMutation, useQueryClient } from '@tanstack/react-query';
import type { ReactNode } from 'react';
import { problemWords } from '../api/problemWords';
import { count } from '../words/words';

/** What became of an action on several entries. */
export interface Outcome {
  done: number;
  /** Those on which it failed, with why. */
  failed: { key: string; error: Error }[];
}

/** Does something with several entries, one after the other: one that fails keeps no other from it. */
export function useForEach(act: (key: string) => Promise<unknown>, onEnd: (outcome: Outcome) => void) {
  const queries = useQueryClient();
  return useMutation({
    mutationFn: async (keys: string[]) => {
      const outcome: Outcome = { done: 0, failed: [] };
      for (const key of keys) {
        try {
          await act(key);
          outcome.done += 1;
        } catch (error) {
          outcome.failed.push({ key, error: error as Error });
        }
      }
      return outcome;
    },
    onSuccess: onEnd,
    onSettled: () => queries.invalidateQueries(),
  });
}

interface Bar {
  nouns: [string, string];
  selected: Set<string>;
  onSelected: (keys: Set<string>) => void;
  outcome?: Outcome;
  /** What was done, as `withdrawn`. */
  done: string;
  children: ReactNode;
}

/** What can be done with the selected entries of a list, and what became of it. */
export function BulkBar({ nouns, selected, onSelected, outcome, done, children }: Bar) {
  return (
    <>
      {outcome && (
        <Alert severity={outcome.failed.length > 0 ? 'warning' : 'success'} variant="outlined" sx={{ mb: 1 }}>
          {count(outcome.done, ...nouns)} {done}
          {outcome.failed.length > 0 && `, ${outcome.failed.length} not:`}
          {outcome.failed.map(({ key, error }) => (
            <div key={key}>
              {key}: {problemWords(error)}
            </div>
          ))}
        </Alert>
      )}
      {selected.size > 0 && (
        <Box role="toolbar" aria-label={`Selected ${nouns[1]}`} sx={{ display: 'flex', flexWrap: 'wrap', gap: 1.5, alignItems: 'center', mb: 1 }}>
          <Typography aria-live="polite">{count(selected.size, ...nouns)} selected</Typography>
          {children}
          <Button variant="text" size="small" onClick={() => onSelected(new Set())}>
            Select none
          </Button>
        </Box>
      )}
    </>
  );
}
