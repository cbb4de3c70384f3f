import Box from '@mui/material/Box';
import Typography from '@mui/material/Typography';
import { useQuery, useQueryClient } from '@tanstack/react-query';
import { useEffect } from 'react';
import { api, type Schemas } from '../api/client';
import { count } from '../words/words';
import { AskDialog } from './AskDialog';
import { answeredWords, bySlowness, upToDateWords, wokenWords } from './wakeWords';

/** So often it is looked who has answered. */
const EVERY = 500;
/** This many nodes are listed. */
const LISTED = 100;

interface Asked {
  /** What is done, as the button that opens this says it. */
  title: string;
  /** Which nodes. */
  which: Schemas['NewWake'];
  /** Which nodes, in words. */
  nodes: string;
  onClose: () => void;
}

/** Asks nodes to check in now, and shows who does. */
export function WakeDialog({ title, which, nodes, onClose }: Asked) {
  return (
    <AskDialog
      title={title}
      what={`${nodes} are asked to check in now, and fetch what is desired of them. Those that can be woken do within two seconds, a thousand at a time; the others at their next check-in.`}
      action="Ask now"
      ask={() => api.wake(which)}
      progress={(wake) => <WakeProgress asked={wake} />}
      command={({ no }) => `constans node reach --wake W${no}`}
      onClose={onClose}
    />
  );
}

function WakeProgress({ asked }: { asked: Schemas['Wake'] }) {
  const queries = useQueryClient();
  const isOver = (wake?: Schemas['Wake']) => wake !== undefined && wake.answered >= wake.nodes;
  const every = ({ state }: { state: { data?: Schemas['Wake'] } }) => (isOver(state.data) ? false : EVERY);
  const wake = useQuery({ queryKey: ['wake', asked.no], queryFn: ({ signal }) => api.wakeShown(asked.no, signal), initialData: asked, refetchInterval: every });
  const answered = wake.data.answered;
  const woken = useQuery({
    queryKey: ['wake', asked.no, 'nodes', answered],
    queryFn: ({ signal }) => api.wokenNodes(asked.no, signal),
    placeholderData: (before) => before,
  });
  useEffect(() => {
    // What the nodes have now is on the pages behind.
    if (answered > 0) void queries.invalidateQueries({ predicate: ({ queryKey }) => queryKey[0] !== 'wake' });
  }, [answered, queries]);
  const nodes = [...(woken.data ?? [])].sort(bySlowness);
  return (
    <>
      <Typography role="status">
        W{asked.no}: {answeredWords(wake.data)}. {upToDateWords(wake.data)}
      </Typography>
      <Box component="ul" sx={{ listStyle: 'none', p: 0, m: 0, fontSize: 14 }}>
        {nodes.slice(0, LISTED).map((node) => (
          <Box component="li" key={node.name} sx={{ display: 'flex', justifyContent: 'space-between', gap: 2, py: 0.25 }}>
            <span>{node.name}</span>
            <Box component="span" sx={{ color: 'text.secondary', textAlign: 'right' }}>
              {wokenWords(node)}
            </Box>
          </Box>
        ))}
      </Box>
      {asked.nodes > LISTED && <Typography sx={{ fontSize: 14 }}>and {count(asked.nodes - LISTED, 'node')} more</Typography>}
    </>
  );
}
