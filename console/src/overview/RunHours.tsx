import Box from '@mui/material/Box';
import Typography from '@mui/material/Typography';
import { useQuery } from '@tanstack/react-query';
import { api, type Schemas } from '../api/client';
import { QueryView } from '../shell/QueryView';
import { clock } from '../words/time';
import { count } from '../words/words';

type Hour = Schemas['RunHour'];

const HOURS = 24;
const HEIGHT = 40;

/** Runs, corrections and failures an hour, of all nodes: a bar for each of the last 24 hours. */
export function RunHours() {
  const hours = useQuery({ queryKey: ['run hours'], queryFn: ({ signal }) => api.runHours(HOURS, signal), meta: { isRefreshedByTimeOnly: true } });
  return <QueryView query={hours}>{(hours) => <Bars hours={hours} />}</QueryView>;
}

function words({ runs, corrections, failures }: Hour): string {
  return `${count(runs, 'run')}, ${count(corrections, 'correction')}, ${count(failures, 'failure')}`;
}

function Bars({ hours }: { hours: Hour[] }) {
  const last = hours.at(-2);
  const most = Math.max(1, ...hours.map(({ runs }) => runs));
  return (
    <>
      <Typography sx={{ mb: 1 }}>{last ? `${words(last)} in the last full hour` : 'No hour is over yet.'}</Typography>
      <Box role="img" aria-label="Runs an hour" sx={{ display: 'flex', alignItems: 'flex-end', gap: '2px', height: HEIGHT + 10 }}>
        {hours.map((hour) => (
          <Box key={hour.from} title={`from ${clock(hour.from)}: ${words(hour)}`} sx={{ flex: 1, textAlign: 'center', fontSize: 10, lineHeight: '10px' }}>
            {hour.failures > 0 && (
              <Box component="span" sx={{ color: 'error.main', fontWeight: 600 }}>
                !
              </Box>
            )}
            <Box sx={{ height: Math.ceil((HEIGHT * hour.runs) / most), bgcolor: hour.corrections > 0 ? 'primary.main' : 'text.disabled' }} />
          </Box>
        ))}
      </Box>
      <Typography sx={{ fontSize: 13, color: 'text.secondary', mt: 0.5 }}>
        the last {HOURS} hours; full colour where something was corrected, ! where something failed
      </Typography>
    </>
  );
}
