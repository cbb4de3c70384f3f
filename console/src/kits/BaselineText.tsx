import Box from '@mui/material/Box';
import Typography from '@mui/material/Typography';
import type { Schemas } from '../api/client';
import { ComplianceOf } from '../compliance/ComplianceOf';
import { PropertyList } from '../looks/PropertyList';
import { mono } from '../looks/theme';

/** A baseline in words, for readers who do not read documents. */
export function BaselineText({ kit, baseline }: { kit: string; baseline: Schemas['BaselinePage'] }) {
  return (
    <Box component="section" aria-label={baseline.name} sx={{ '& + &': { mt: 3, pt: 2, borderTop: '1px solid', borderColor: 'divider' } }}>
      <Typography variant="h3" sx={{ fontSize: 17, fontWeight: 600 }}>
        {baseline.name}
      </Typography>
      <Typography>{baseline.summary}</Typography>
      <ComplianceOf by="baseline" name={`${kit}/${baseline.name}`} />
      {aboutBaseline(baseline).map((line) => (
        <Typography key={line} sx={{ color: 'text.secondary', fontSize: 14 }}>
          {line}
        </Typography>
      ))}
      {baseline.clauses.map((clause, at) => (
        // biome-ignore lint/suspicious/noArrayIndexKey: the list never changes while it is shown, and equal lines occur
        <ClauseText key={at} clause={clause} />
      ))}
    </Box>
  );
}

function aboutBaseline(baseline: Schemas['BaselinePage']): string[] {
  const lines: string[] = [];
  if (baseline.satisfies.length) lines.push(`Satisfies ${baseline.satisfies.join(', ')}.`);
  if (baseline.include.length) lines.push(`Includes ${baseline.include.join(', ')}.`);
  if (baseline.only_where) lines.push(`Applies only where ${baseline.only_where}.`);
  for (const { name, note, default: usual } of baseline.parameters)
    lines.push(`Parameter ${name}${note && `: ${note}`} (${usual == null ? 'required' : `default ${usual}`}).`);
  return lines;
}

function ClauseText({ clause }: { clause: Schemas['ClausePage'] }) {
  return (
    <Box sx={{ mt: 1.5, pl: 1.5, borderLeft: '3px solid', borderColor: 'divider' }}>
      <Typography>
        <strong>{clause.wanted}</strong>{' '}
        <Box component="span" sx={{ color: 'text.secondary', fontSize: 14 }}>
          {clause.severity} severity
        </Box>
      </Typography>
      <PropertyList properties={clause.details as [string, string][]} />
      {clause.contents && (
        <Box component="pre" sx={{ m: 0, mt: 0.5, p: 1, bgcolor: 'sunken', fontFamily: mono, fontSize: 13, overflow: 'auto' }}>
          {clause.contents}
        </Box>
      )}
      {clause.note && <Typography sx={{ color: 'text.secondary', fontSize: 14 }}>{clause.note}</Typography>}
    </Box>
  );
}
