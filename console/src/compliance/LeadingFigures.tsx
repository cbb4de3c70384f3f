import Box from '@mui/material/Box';
import Link from '@mui/material/Link';
import Typography from '@mui/material/Typography';
import { Link as RouterLink } from 'react-router';
import type { Schemas } from '../api/client';
import { exact } from '../words/time';
import { count } from '../words/words';
import { rateWords } from './rate';

interface Figures {
  compliance: Schemas['Compliance'];
  examinations?: Schemas['Examinations'];
  /** Whether only some clauses are asked about. */
  isOfSome?: boolean;
}

/** Nodes without any deviation and with a critical one first; then the rates, with what is not known. */
export function LeadingFigures({ compliance, examinations, isOfSome }: Figures) {
  const { nodes, clauses } = compliance;
  const counted = nodes.without_deviation + nodes.with_deviation + nodes.not_known + nodes.conceded;
  const all = clauses.compliant + clauses.noncompliant + clauses.conceded + clauses.unexamined + clauses.unknown;
  const withoutClauses = compliance.nodes_in_all - counted;
  const more = [
    [clauses.noncompliant, 'noncompliant'],
    [clauses.conceded, 'conceded'],
    [clauses.unexamined, 'unexamined'],
    [clauses.unknown, 'unknown'],
    [clauses.in_doubt, 'in doubt (in the window of a drift that was found later)'],
  ] as const;
  return (
    <Box sx={{ display: 'flex', flexWrap: 'wrap', columnGap: 6, rowGap: 1 }}>
      <Figure number={nodes.without_deviation} words={`of ${count(counted, 'node')}`} more="without any deviation" />
      <Figure
        number={nodes.with_critical}
        words={nodes.with_critical === 1 ? 'node with a' : 'nodes with a'}
        more="critical deviation"
        isBad={nodes.with_critical > 0}
      />
      <Box>
        <Typography>
          <b>{rateWords(compliance.rate_basis_points)}</b> of {count(all, 'clause')} on nodes compliant{clauses.conceded > 0 && ', as found'}
        </Typography>
        {clauses.conceded > 0 && (
          <Typography>
            <b>{rateWords(compliance.rate_with_concessions_basis_points)}</b> with{' '}
            <Link component={RouterLink} to="/compliance/concessions">
              concessions
            </Link>
          </Typography>
        )}
        <Typography sx={{ fontSize: 14, color: 'text.secondary' }}>
          {more
            .filter(([number]) => number > 0)
            .map(([number, words]) => `${number.toLocaleString('en')} ${words}`)
            .join(' · ')}
        </Typography>
      </Box>
      <Box sx={{ color: 'text.secondary' }}>
        <Typography sx={{ fontSize: 14 }}>as of {exact(compliance.as_of)}</Typography>
        {examinations?.oldest_node && examinations.oldest_at && (
          <Typography sx={{ fontSize: 14 }}>
            oldest examination that counts: {exact(examinations.oldest_at)},{' '}
            <Link component={RouterLink} to={`/nodes/${examinations.oldest_node}`}>
              {examinations.oldest_node}
            </Link>
          </Typography>
        )}
        {examinations && examinations.nodes_with_missing_runs > 0 && (
          <Typography sx={{ fontSize: 14 }}>
            {count(examinations.nodes_with_missing_runs, 'node')} ran again before that, and no report of that run ever came: the run before it counts
          </Typography>
        )}
        {examinations && examinations.clauses_by_metadata > 0 && (
          <Typography sx={{ fontSize: 14 }}>
            {count(examinations.clauses_by_metadata, 'clause')} at most known by the metadata of files, unchanged since they were read, at most a day before
          </Typography>
        )}
        {nodes.conceded > 0 && <Typography sx={{ fontSize: 14 }}>{count(nodes.conceded, 'node')} with only conceded deviations</Typography>}
        {nodes.not_known > 0 && <Typography sx={{ fontSize: 14 }}>{count(nodes.not_known, 'node')} not wholly known</Typography>}
        {withoutClauses > 0 && (
          <Typography sx={{ fontSize: 14 }}>
            {count(withoutClauses, 'node')} {isOfSome ? 'without such clauses' : 'without clauses: nothing is assigned, or it cannot be resolved'}
          </Typography>
        )}
        {compliance.undecidable > 0 && (
          <Typography sx={{ fontSize: 14 }}>{count(compliance.undecidable, 'node')} did not report a field that the filter reads</Typography>
        )}
      </Box>
    </Box>
  );
}

function Figure({ number, words, more, isBad = false }: { number: number; words: string; more: string; isBad?: boolean }) {
  return (
    <Box>
      <Typography>
        <Box component="span" sx={{ fontSize: 28, fontWeight: 600, color: isBad ? 'error.main' : 'text.primary' }}>
          {number.toLocaleString('en')}
        </Box>{' '}
        {words}
      </Typography>
      <Typography>{more}</Typography>
    </Box>
  );
}
