import Box from '@mui/material/Box';
import { count } from '../words/words';
import { Address } from './Address';

interface Failure {
  address: string;
  message: string;
  nodes: number;
  names: string[];
}

/** What failed on nodes, by clause and message. */
export function FailureList({ failures }: { failures: Failure[] }) {
  return (
    <Box component="ul" sx={{ listStyle: 'none', p: 0, m: 0 }}>
      {failures.map(({ address, message, nodes, names }) => (
        <Box component="li" key={address + message} sx={{ display: 'flex', justifyContent: 'space-between', gap: 2, py: 0.75 }}>
          <Box sx={{ minWidth: 0 }}>
            <Address>{address}</Address>
            <Box sx={{ color: 'text.secondary', overflowWrap: 'anywhere' }}>{message}</Box>
          </Box>
          <Box sx={{ whiteSpace: 'nowrap' }} title={names.join(', ')}>
            {count(nodes, 'node')}
          </Box>
        </Box>
      ))}
    </Box>
  );
}
