import Box from '@mui/material/Box';
import Link from '@mui/material/Link';
import Typography from '@mui/material/Typography';
import type { ReactNode } from 'react';
import { Link as RouterLink } from 'react-router';
import type { Schemas } from '../api/client';
import { CopiedCommand } from '../looks/CopiedCommand';
import { StatusGlyph } from '../looks/StatusGlyph';
import { write } from '../words/sentence';
import { clock, exact } from '../words/time';

type Event = Schemas['Event'];

/** The last events: what was noticed of nodes, linked to the report that noticed it, and changes that were handed out. */
export function RecentActivityList({ events, now }: { events: Event[]; now: number }) {
  if (events.length === 0) return <Typography>Nothing has happened yet.</Typography>;
  return (
    <>
      <Box component="ul" sx={{ listStyle: 'none', p: 0, m: 0 }}>
        {events.map((event) => (
          <Box component="li" key={event.id} sx={{ display: 'flex', gap: 1, py: 0.5, fontSize: 14 }}>
            {event.status ? <StatusGlyph status={event.status} size={18} /> : <Box sx={{ width: 18, flex: 'none' }} />}
            <Box sx={{ flex: 1, minWidth: 0, overflowWrap: 'anywhere' }}>
              <EventLink event={event}>
                <strong>{event.who ?? event.node ?? event.subject}</strong> {write(event.words, now)}
              </EventLink>
            </Box>
            <Box component="time" dateTime={event.at} title={exact(event.at)} sx={{ color: 'text.secondary' }}>
              {clock(event.at)}
            </Box>
          </Box>
        ))}
      </Box>
      <CopiedCommand command="constans event list" />
    </>
  );
}

function EventLink({ event, children }: { event: Event; children: ReactNode }) {
  const to = addressOf(event);
  if (!to) return children;
  return (
    <Link component={RouterLink} to={to} color="inherit">
      {children}
    </Link>
  );
}

function addressOf({ node, run, change, kind, subject }: Event): string | undefined {
  if (node) return `/nodes/${encodeURIComponent(node)}${run ? `/runs/${run}` : ''}`;
  if (change) return `/changes/C${change}`;
  return kind === 'joined' ? `/nodes/${encodeURIComponent(subject)}` : undefined;
}
