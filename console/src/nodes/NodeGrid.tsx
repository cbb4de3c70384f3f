import Box from '@mui/material/Box';
import Link from '@mui/material/Link';
import Typography from '@mui/material/Typography';
import { DataGrid, type GridColDef } from '@mui/x-data-grid';
import { useMemo } from 'react';
import { Link as RouterLink, useNavigate } from 'react-router';
import type { Schemas } from '../api/client';
import { Address } from '../looks/Address';
import { nonce } from '../looks/nonce';
import { SignGlyph } from '../looks/SignGlyph';
import { SignWord } from '../looks/SignWord';
import { releaseWords } from '../words/standing';
import { ago } from '../words/time';
import { useNow } from '../words/useNow';
import { words } from '../words/words';

type Node = Schemas['NodeSummary'];

/** The nodes as a table: sorted by any column, walked by keyboard, a row leads to its node. */
export function NodeGrid({ nodes, isFiltered }: { nodes: Node[]; isFiltered: boolean }) {
  const navigate = useNavigate();
  const now = useNow();
  const longest = nodes.reduce((longest, node) => Math.max(longest, node.name.length), 0);
  const columns = useMemo(() => columnsAt(now, nameWidth(longest)), [now, longest]);
  return (
    <DataGrid
      rows={nodes}
      columns={columns}
      nonce={nonce}
      density="compact"
      aria-label="Nodes"
      disableRowSelectionOnClick
      disableColumnMenu
      columnVisibilityModel={{ troubles: nodes.some((node) => (node.troubles ?? []).length > 0) }}
      hideFooter={nodes.length <= 100}
      initialState={{ pagination: { paginationModel: { pageSize: 100 } } }}
      onRowClick={({ row }) => void navigate(`/nodes/${encodeURIComponent((row as Node).name)}`)}
      slots={{ noRowsOverlay: isFiltered ? NoneSo : NoneYet }}
      sx={{
        '--DataGrid-rowBorderColor': 'var(--mui-palette-hairline)',
        bgcolor: 'background.paper',
        borderColor: 'divider',
        minHeight: 200,
        '& .MuiDataGrid-columnSeparator': { color: 'divider' },
        '& .MuiDataGrid-row': { cursor: 'pointer' }, '& .MuiDataGrid-columnHeaderTitle': { fontWeight: 600 } }}
    />
  );
}

/** So wide that a name of so many characters is seen whole, if it is no very long one. */
function nameWidth(characters: number) {
  return Math.min(Math.max(140, 24 + 8 * characters), 320);
}

function columnsAt(now: number, nameWidth: number): GridColDef<Node>[] {
  return [
    {
      field: 'name',
      headerName: 'Node',
      width: nameWidth,
      renderCell: ({ row }) => (
        <Link component={RouterLink} to={`/nodes/${encodeURIComponent(row.name)}`} color="inherit" sx={{ fontWeight: 600 }} tabIndex={-1}>
          {row.name}
        </Link>
      ),
    },
    { field: 'sign', headerName: 'Sign', width: 145, renderCell: ({ row }) => <SignWord sign={row.sign} late={row.hearing === 'late'} /> },
    { field: 'run', headerName: 'Last full run', width: 110, valueGetter: (_, row) => row.standing?.run_began ?? '', valueFormatter: (_, row) => (row.standing?.run_began ? ago(row.standing.run_began, now) : 'none yet') },
    { field: 'has', headerName: 'Has', flex: 4, minWidth: 340, valueGetter: (_, row) => releaseWords(row, now) },
    { field: 'heard', headerName: 'Heard', width: 100, valueGetter: (_, row) => row.last_heard ?? '', valueFormatter: (_, row) => (row.last_heard ? ago(row.last_heard, now) : 'never') },
    { field: 'mode', headerName: 'Mode', width: 75, valueGetter: (_, row) => row.standing?.mode ?? '–' },
    { field: 'stage', headerName: 'Stage', width: 95, valueGetter: (_, row) => row.standing?.stage ?? '–' },
    { field: 'troubles', headerName: 'Trouble', width: 100, valueGetter: (_, row) => (row.troubles ?? []).map(words).join(', ') },
    {
      field: 'labels',
      headerName: 'Labels',
      flex: 2,
      minWidth: 180,
      valueGetter: (_, row) => Object.entries(row.labels).map(([label, value]) => `${label}=${value}`).join(' '),
      renderCell: ({ value }) => <Address>{String(value)}</Address>,
    },
  ];
}

function NoneSo() {
  return (
    <Box sx={{ p: 3 }}>
      <Typography>No node is so. Take a part of the filter away to see more.</Typography>
    </Box>
  );
}

function NoneYet() {
  return (
    <Box sx={{ p: 3, display: 'flex', gap: 1 }}>
      <SignGlyph sign="never_reported" />
      <Typography>
        No nodes yet. <Address>constans invite</Address> makes an invitation for the first one.
      </Typography>
    </Box>
  );
}
