import Box from '@mui/material/Box';
import Typography from '@mui/material/Typography';
import type { ReactNode } from 'react';
import type { Schemas } from '../api/client';
import { describedValue } from '../groups/values';
import { Address } from '../looks/Address';
import { exact } from '../words/time';
import { count, layerWords } from '../words/words';

/** Settings that are shown even if no group sets them. */
const ALWAYS_SHOWN = ['mode', 'check-ins', 'runs'];
const DEFAULT = 'default';

/** The sources of a node's desired state: stage, groups, settings, baselines, parameters. */
export function Origins({ sources, layers }: { sources: Schemas['StateSources']; layers?: Schemas['NodeLayers'] }) {
  const parameters = Object.entries(sources.parameters ?? {});
  return (
    <Box sx={{ fontSize: 14, display: 'grid', gap: 1 }}>
      <SourceRow what="stage">{sources.stage || '–'}</SourceRow>
      <SourceRow what="groups">{(sources.groups ?? []).join(', ') || '–'}</SourceRow>
      <SourceRow what="agent">
        {(sources.settings_described ?? [])
          .filter(({ word, from }) => ALWAYS_SHOWN.includes(word) || from !== DEFAULT)
          .map(({ word, value, from }) => (
            <div key={word}>
              {word}: {value}
              <Box component="span" sx={{ color: 'text.secondary' }}>
                {from === DEFAULT ? ', default' : `, by ${from}`}
              </Box>
              <Replaced values={layers?.settings} name={SAID_BY[word] ?? word} />
            </div>
          ))}
        <Box sx={{ color: 'text.secondary' }}>all others default</Box>
      </SourceRow>
      <SourceRow what={count(sources.clauses ?? 0, 'clause')}>
        <Lines lines={sources.baselines ?? []} none="no baseline" />
      </SourceRow>
      {parameters.length > 0 && (
        <SourceRow what="parameters">
          {parameters.map(([name, value]) => (
            <Box key={name} sx={{ mb: 0.5 }}>
              <Address>{`${name} = ${JSON.stringify(value.value)}`}</Address>
              <Box sx={{ color: 'text.secondary' }}>
                from {layerWords(value)}
                {value.over?.length ? `, over ${value.over.map(layerWords).join(', ')}` : ''}
              </Box>
              <Replaced values={layers?.parameters} name={name} />
            </Box>
          ))}
        </SourceRow>
      )}
      {(sources.replaced ?? []).length > 0 && (
        <SourceRow what="its own">
          {sources.replaced?.map(({ clause, property, value, instead_of, until }) => (
            <Box key={`${clause} ${property}`} sx={{ mb: 0.5 }}>
              <Address>{`${clause} ${property} = ${describedValue(value)}`}</Address>
              <Box sx={{ color: 'text.secondary' }}>
                {instead_of === undefined || instead_of === null ? 'its baselines say nothing of it' : `in place of ${describedValue(instead_of)}`},{' '}
                {until ? `until ${exact(until)}` : 'without end'}
              </Box>
            </Box>
          ))}
        </SourceRow>
      )}
      {(sources.not_served ?? []).length > 0 && (
        <SourceRow what="not served">
          <Lines lines={sources.not_served ?? []} none="" /> assigned, but the stage serves no release of the kit
        </SourceRow>
      )}
      {(sources.undecidable ?? []).length > 0 && (
        <SourceRow what="groups">cannot be evaluated, because the node did not report a field of the filter: {sources.undecidable?.join(', ')}</SourceRow>
      )}
      {(sources.excluded ?? []).map((excluded) => {
        const [address, condition] = excluded as [string, string];
        return (
          <SourceRow key={address} what="excluded">
            <Address>{address}</Address>: {condition}
          </SourceRow>
        );
      })}
    </Box>
  );
}

/** Settings that documents say by another word than they are described by. */
const SAID_BY: Record<string, string> = { 'check-ins': 'interval_secs', runs: 'run_interval_secs', grace: 'grace_secs', 'change window': 'change_window' };

/** What layers below said, which higher ones replaced; the highest of them first. */
function Replaced({ values, name }: { values?: Schemas['LayeredValue'][]; name: string }) {
  const value = values?.find((value) => value.name === name);
  return value?.layers
    .slice(0, value.counts_from)
    .reverse()
    .map((layer) => (
      <Box key={layerWords(layer)} sx={{ color: 'text.secondary', pl: 2 }}>
        in place of <Address>{describedValue(layer.value)}</Address>, {layerWords(layer)}
      </Box>
    ));
}

function SourceRow({ what, children }: { what: string; children: ReactNode }) {
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
