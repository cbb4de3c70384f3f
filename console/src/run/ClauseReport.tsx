import Box from '@mui/material/Box';
import Paper from '@mui/material/Paper';
import Typography from '@mui/material/Typography';
import { useEffect, useRef } from 'react';
import type { Schemas } from '../api/client';
import { Address } from '../looks/Address';
import { StatusWord } from '../looks/StatusWord';
import { write, writeFirst } from '../words/sentence';
import { took } from '../words/time';
import { useNow } from '../words/useNow';
import { Differences } from './Differences';
import { FailureReport } from './FailureReport';
import { NativeSteps } from './NativeSteps';
import { RelatedRecords } from './RelatedRecords';
import { TextDiff } from './TextDiff';

type Result = Schemas['ClauseResult'];

/** The result of one clause in a run: outcome and cause, differences, text, and the native commands. */
export function ClauseReport({ clause, words, isChosen }: { clause: Result; words: Schemas['ClauseWords']; isChosen: boolean }) {
  const box = useRef<HTMLElement>(null);
  useEffect(() => {
    if (isChosen) box.current?.scrollIntoView?.({ block: 'center' });
  }, [isChosen]);
  const origins = clause.origins.map(({ kit, version, baseline }) => `${kit}@${version}/${baseline}`).join(', ');
  const now = useNow();
  const stillDiffers = JSON.stringify(clause.still_different ?? []) !== JSON.stringify(clause.differences ?? []);
  return (
    <Paper component="article" ref={box} aria-label={clause.address} sx={{ p: 2, borderColor: isChosen ? 'primary.main' : 'divider' }}>
      <Box sx={{ display: 'flex', gap: 2, alignItems: 'center', flexWrap: 'wrap' }}>
        <Box component="strong">
          <Address>{clause.address}</Address>
        </Box>
        <StatusWord status={words.status} word={write(words.headline, now)} />
        <Box sx={{ flex: 1 }} />
        <Typography sx={{ color: 'text.secondary', fontSize: 13 }}>
          {clause.severity} severity · {origins} · {took(clause.took_us)}
        </Typography>
      </Box>
      {words.cause && <Typography sx={{ color: 'text.secondary', fontSize: 14 }}>{writeFirst(words.cause, now)}</Typography>}
      <Differences differences={clause.differences ?? []} />
      {stillDiffers && <Differences title="Still different after the correction" differences={clause.still_different ?? []} />}
      <TextDiff diff={clause.text_diff} refused={clause.text_diff_refused} />
      <FailureReport failure={clause.failure} />
      <RelatedRecords words={words.related ?? []} />
      <Notes clause={clause} words={words} />
    </Paper>
  );
}

function Notes({ clause, words }: { clause: Result; words: Schemas['ClauseWords'] }) {
  const now = useNow();
  const lines = [...(words.notes ?? []), ...(words.warnings ?? []), ...(words.details ?? [])];
  return (
    <>
      {lines
        .map((line) => writeFirst(line, now))
        .map((line) => (
          <Typography key={line} sx={{ fontSize: 14, mt: 0.5, overflowWrap: 'anywhere' }}>
            {line}
          </Typography>
        ))}
      <NativeSteps title="Commands and system calls" steps={clause.native ?? []} />
    </>
  );
}
