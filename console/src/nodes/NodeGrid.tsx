import Box from '@mui/material/Box';
import Link from '@mui/material/Link';
import Typography from '@mui/material/Typography';
import { DataGrid, type GridColDef } from '@mui/x-data-grid';
import { useMemo } from 'react';
import { Link as RouterLink, useNavigate } from 'react-router';
import type { Schemas } from '../api/client';
import { Address } from '../looks/Address';
import { SignGlyph } from '../looks/SignGlyph';
import { SignWord } from '../looks/SignWord';
import { heardWords, standingWords } from '../words/standing';
import { useNow } from '../words/useNow';
import { words } from '../words/words';

type Node = Schemas['NodeSummary'];

/** The nodes as a table: sorted by any column, walked by keyboard, a row leads to its node. */
export function NodeGrid({ nodes, isFiltered }: { nodes: Node[]; isFiltered: boolean }) {
  const navigate = useNavigate();
  const now = useNow();
  const columns = useMemo(() => columnsAt(now), [now]);
  return (
    <DataGrid
      rows={nodes}
      columns={columns}
      density="compact"
      aria-label="Nodes"
      disableRowSelectionOnClick
      disableColumnMenu
      hideFooter={nodes.length <= 100}
      initialState={{ pagination: { paginationModel: { pageSize: 100 } } }}
      onRowClick={({ row }) => void navigate(`/nodes/${encodeURIComponent((row as Node).name)}`)}
      slots={{ noRowsOverlay: isFiltered ? NoneSo : NoneYet }}
      sx={{ bgcolor: 'background.paper', minHeight: 200, '& .MuiDataGrid-row': { cursor: 'pointer' }, '& .MuiDataGrid-columnHeaderTitle': { fontWeight: 600 } }}
    />
  );
}

function columnsAt(now: number): GridColDef<Node>[] {
  return [
    {
      field: 'name',
      headerName: 'Node',
      width: 180,
      renderCell: ({ row }) => (
        <Link component={RouterLink} to={`/nodes/${encodeURIComponent(row.name)}`} color="inherit" sx={{ fontWeight: 600 }} tabIndex={-1}>
          {row.name}
        </Link>
      ),
    },
    { field: 'sign', headerName: 'Sign', width: 150, renderCell: ({ row }) => <SignWord sign={row.sign} late={row.hearing === 'late'} /> },
    { field: 'standing', headerName: 'Last full run', flex: 2, minWidth: 260, valueGetter: (_, row) => standingWords(row, now) },
    { field: 'heard', headerName: 'Heard', flex: 1, minWidth: 220, valueGetter: (_, row) => row.last_heard ?? '', valueFormatter: (_, row) => heardWords(row, now) },
    { field: 'mode', headerName: 'Mode', width: 80, valueGetter: (_, row) => row.standing?.mode ?? '–' },
    { field: 'stage', headerName: 'Stage', width: 100, valueGetter: (_, row) => row.standing?.stage ?? '–' },
    { field: 'troubles', headerName: 'Trouble', width: 110, valueGetter: (_, row) => (row.troubles ?? []).map(words).join(', ') },
    {
      field: 'labels',
      headerName: 'Labels',
      flex: 1,
      minWidth: 160,
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
