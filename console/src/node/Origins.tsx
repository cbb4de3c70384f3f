import Box from '@mui/material/Box';
import Typography from '@mui/material/Typography';
import type { ReactNode } from 'react';
import type { Schemas } from '../api/client';
import { Address } from '../looks/Address';
import { count, layerWords } from '../words/words';

/** Settings that are shown even if no group names them. */
const ALWAYS_SHOWN = ['mode', 'check-ins', 'runs'];
const AS_USUAL = 'as usual';

/** Where each part of what a node is wanted to be comes from: stage, groups, baselines, parameters. */
export function Origins({ explained }: { explained: Schemas['Explained'] }) {
  const parameters = Object.entries(explained.parameters ?? {});
  return (
    <Box sx={{ fontSize: 14, display: 'grid', gap: 1 }}>
      <Fact what="stage">{explained.stage || '–'}</Fact>
      <Fact what="groups">{(explained.groups ?? []).join(', ') || '–'}</Fact>
      <Fact what="agent">
        {(explained.settings_told ?? [])
          .filter(({ word, from }) => ALWAYS_SHOWN.includes(word) || from !== AS_USUAL)
          .map(({ word, value, from }) => (
            <div key={word}>
              {word}: {value}
              <Box component="span" sx={{ color: 'text.secondary' }}>
                {from === AS_USUAL ? ', as usual' : `, by ${from}`}
              </Box>
            </div>
          ))}
        <Box sx={{ color: 'text.secondary' }}>the rest as usual</Box>
      </Fact>
      <Fact what={count(explained.clauses ?? 0, 'clause')}>
        <Lines lines={explained.baselines ?? []} none="of no baseline" />
      </Fact>
      {parameters.length > 0 && (
        <Fact what="parameters">
          {parameters.map(([name, value]) => (
            <Box key={name} sx={{ mb: 0.5 }}>
              <Address>{`${name} = ${JSON.stringify(value.value)}`}</Address>
              <Box sx={{ color: 'text.secondary' }}>
                from {layerWords(value)}
                {value.over?.length ? `, over ${value.over.map(layerWords).join(', ')}` : ''}
              </Box>
            </Box>
          ))}
        </Fact>
      )}
      {(explained.not_served ?? []).length > 0 && (
        <Fact what="left out">
          <Lines lines={explained.not_served ?? []} none="" /> the stage does not serve it
        </Fact>
      )}
      {(explained.undecidable ?? []).length > 0 && <Fact what="undecidable">groups that ask for what the node did not report: {explained.undecidable?.join(', ')}</Fact>}
      {(explained.excluded ?? []).map((excluded) => {
        const [address, condition] = excluded as [string, string];
        return (
          <Fact key={address} what="not here">
            <Address>{address}</Address>: {condition}
          </Fact>
        );
      })}
    </Box>
  );
}

function Fact({ what, children }: { what: string; children: ReactNode }) {
  return (
    <Box sx={{ display: 'grid', gridTemplateColumns: '84px minmax(0, 1fr)', columnGap: 1 }}>
      <Typography sx={{ color: 'text.secondary', fontSize: 14 }}>{what}</Typography>
      <Box sx={{ minWidth: 0, overflowWrap: 'anywhere' }}>{children}</Box>
    </Box>
  );
}

function Lines({ lines, none }: { lines: string[]; none: string }) {
  if (lines.length === 0) return <>{none}</>;
  return (
    <>
      {lines.map((line) => (
        <div key={line}>
          <Address>{line}</Address>
        </div>
      ))}
    </>
  );
}
