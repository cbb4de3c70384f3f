import Box from '@mui/material/Box';
import Paper from '@mui/material/Paper';
import Typography from '@mui/material/Typography';
import { useEffect, useRef } from 'react';
import type { Schemas } from '../api/client';
import { Address } from '../looks/Address';
import { StatusWord } from '../looks/StatusWord';
import { exact, took } from '../words/time';
import { outcomeStatus } from '../words/words';
import { causeWords, headline, missedWords } from './clauseWords';
import { Differences } from './Differences';
import { FailureReport } from './FailureReport';
import { NativeSteps } from './NativeSteps';
import { TextDiff } from './TextDiff';

type Result = Schemas['ClauseResult'];

/** The result of one clause in a run: outcome and cause, differences, text, and the native commands. */
export function ClauseReport({ clause, isChosen }: { clause: Result; isChosen: boolean }) {
  const box = useRef<HTMLElement>(null);
  useEffect(() => {
    if (isChosen) box.current?.scrollIntoView?.({ block: 'center' });
  }, [isChosen]);
  const origins = clause.origins.map(({ kit, version, baseline }) => `${kit}@${version}/${baseline}`).join(', ');
  const cause = causeWords(clause);
  const stillDiffers = JSON.stringify(clause.still_different ?? []) !== JSON.stringify(clause.differences ?? []);
  return (
    <Paper component="article" ref={box} aria-label={clause.address} sx={{ p: 2, borderColor: isChosen ? 'primary.main' : 'divider' }}>
      <Box sx={{ display: 'flex', gap: 2, alignItems: 'center', flexWrap: 'wrap' }}>
        <Box component="strong">
          <Address>{clause.address}</Address>
        </Box>
        <StatusWord status={outcomeStatus(clause.outcome, clause.cause)} word={headline(clause)} />
        <Box sx={{ flex: 1 }} />
        <Typography sx={{ color: 'text.secondary', fontSize: 13 }}>
          {clause.severity} severity · {origins} · {took(clause.took_us)}
        </Typography>
      </Box>
      {cause && <Typography sx={{ color: 'text.secondary', fontSize: 14 }}>{cause}</Typography>}
      <Differences differences={clause.differences ?? []} />
      {stillDiffers && <Differences title="Still different after the correction" differences={clause.still_different ?? []} />}
      <TextDiff diff={clause.text_diff} refused={clause.text_diff_refused} />
      <FailureReport failure={clause.failure} />
      <Aftermath clause={clause} />
    </Paper>
  );
}

function Aftermath({ clause }: { clause: Result }) {
  const said = [
    ...(clause.kept ?? []).map((old) =>
      clause.decision.due === 'leave'
        ? `A copy of ${old.path} as it is now is number ${old.attic} in the attic of the node`
        : `The replaced contents of ${old.path} are number ${old.attic} in the attic of the node: constans-agent attic put-back ${old.attic}`,
    ),
    ...(clause.packages ?? []).map((change) => `Package ${change.package}: ${change.before ?? 'not installed'} → ${change.after ?? 'removed'}`),
    ...(clause.not_examined ?? []).map((left) => `${left.property} was not examined here: ${left.why}`),
    ...(clause.dropped_needs ?? []).map((need) => `The need ${need} is not part of the desired state of this node`),
    ...(clause.reaction ? [`${clause.reaction.reaction}: ${clause.reaction.state.replaceAll('_', ' ')} since ${exact(clause.reaction.since)}, set off by ${clause.reaction.causes.join(', ')}`] : []),
    ...(clause.missed ?? []).map(missedWords),
    ...(clause.stand_in ? [clause.stand_in] : []),
  ];
  return (
    <>
      {said.map((line) => (
        <Typography key={line} sx={{ fontSize: 14, mt: 0.5, overflowWrap: 'anywhere' }}>
          {line}
        </Typography>
      ))}
      <NativeSteps title="Commands and system calls" steps={clause.native ?? []} />
    </>
  );
}
