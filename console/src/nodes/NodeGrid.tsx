import Box from '@mui/material/Box';
import Button from '@mui/material/Button';
import Link from '@mui/material/Link';
import Typography from '@mui/material/Typography';
import { DataGrid, type GridColDef, type GridSortModel } from '@mui/x-data-grid';
import { useMemo, useState } from 'react';
import { Link as RouterLink, useNavigate } from 'react-router';
import type { Schemas } from '../api/client';
import { Address } from '../looks/Address';
import { nonce } from '../looks/nonce';
import { StatusGlyph } from '../looks/StatusGlyph';
import { StatusWord } from '../looks/StatusWord';
import { Unseen } from '../looks/Unseen';
import { NodeActionsMenu } from '../node/NodeActions';
import { ago } from '../words/time';
import { useNow } from '../words/useNow';
import { problemWords } from '../words/words';
import { labelsOf, releasesOf, system } from './nodeColumns';

type Node = Schemas['NodeSummary'];

interface Props {
  nodes: Node[];
  /** The number of nodes on all pages. */
  total: number;
  isFiltered: boolean;
  /** The order, as `-last_contact`; empty for by name. */
  sort: string;
  onSort: (sort: string) => void;
  page: number;
  onPage: (page: number) => void;
  pageSize: number;
  /** The columns that are not shown. */
  hidden: string[];
  /** The names of the selected nodes, on this page and others. */
  selected: Set<string>;
  onSelected: (names: Set<string>) => void;
}

/** A page of nodes as a table, sorted and paged by the server, usable by keyboard; a row opens its node. */
export function NodeGrid({ nodes, total, isFiltered, sort, onSort, page, onPage, pageSize, hidden, selected, onSelected }: Props) {
  const navigate = useNavigate();
  const [acted, setActed] = useState<{ name: string; anchor: HTMLElement }>();
  const now = useNow();
  const longest = nodes.reduce((longest, node) => Math.max(longest, node.name.length), 0);
  const columns = useMemo(() => withActions(columnsAt(now, nameWidth(longest)), (name, anchor) => setActed({ name, anchor })), [now, longest]);
  // Of a page without problems their column would be empty.
  const hasProblems = nodes.some((node) => (node.problems ?? []).length > 0);
  const visibility = Object.fromEntries([...hidden, ...(hasProblems ? [] : ['problems'])].map((field) => [field, false]));
  // The same order is the same object: a new one would take the grid back to its first page.
  const sortModel = useMemo(() => sortModelOf(sort), [sort]);
  return (
    <>
      <DataGrid
        rows={nodes}
        columns={columns}
        nonce={nonce}
        density="compact"
        aria-label="Nodes"
        disableRowSelectionOnClick
        checkboxSelection
        getRowId={(row: Node) => row.name}
        keepNonExistentRowsSelected
        rowSelectionModel={{ type: 'include', ids: selected }}
        onRowSelectionModelChange={({ type, ids }) => onSelected(type === 'include' ? (ids as Set<string>) : new Set(nodes.map(({ name }) => name)))}
        disableColumnMenu
        columnVisibilityModel={visibility}
        hideFooter={total <= pageSize}
        paginationMode="server"
        rowCount={total}
        pageSizeOptions={[pageSize]}
        paginationModel={{ page, pageSize }}
        onPaginationModelChange={(model) => onPage(model.page)}
        sortingMode="server"
        sortModel={sortModel}
        onSortModelChange={([by]) => onSort(by ? `${by.sort === 'desc' ? '-' : ''}${by.field}` : '')}
        onRowClick={({ row }) => void navigate(`/nodes/${encodeURIComponent((row as Node).name)}`)}
        slots={{ noRowsOverlay: isFiltered ? NoMatch : NoNodesYet }}
        sx={{
          '--DataGrid-rowBorderColor': 'var(--mui-palette-hairline)',
          bgcolor: 'background.paper',
          borderColor: 'divider',
          minHeight: 200,
          '& .MuiDataGrid-columnSeparator': { color: 'divider' },
          '& .MuiDataGrid-row': { cursor: 'pointer' },
          '& .MuiDataGrid-columnHeaderTitle': { fontWeight: 600 },
        }}
      />
      {acted && <NodeActionsMenu {...acted} onDone={() => setActed(undefined)} />}
    </>
  );
}

/** What opens the actions of a row stands beside its name, so that it is seen however narrow the window is. */
function withActions([name, ...others]: GridColDef<Node>[], onOpen: (name: string, anchor: HTMLElement) => void): GridColDef<Node>[] {
  const actions: GridColDef<Node> = {
    field: 'actions',
    type: 'actions',
    headerName: 'Actions',
    width: 44,
    minWidth: 44,
    renderHeader: () => <Unseen>Actions</Unseen>,
    renderCell: ({ row }) => (
      <Button
        variant="text"
        size="small"
        aria-haspopup="menu"
        aria-label={`… actions of ${row.name}`}
        onClick={(event) => {
          event.stopPropagation();
          onOpen(row.name, event.currentTarget);
        }}
        sx={{ minWidth: 0, fontWeight: 700 }}
      >
        …
      </Button>
    ),
  };
  return name ? [name, actions, ...others] : others;
}

function sortModelOf(sort: string): GridSortModel {
  return sort ? [{ field: sort.replace('-', ''), sort: sort.startsWith('-') ? 'desc' : 'asc' }] : [];
}

/** The width of the name column for the longest name, within bounds. */
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
    { field: 'status', headerName: 'Status', width: 145, renderCell: ({ row }) => <StatusWord status={row.status} late={row.last_contact === 'late'} /> },
    {
      field: 'last_run',
      headerName: 'Last full run',
      width: 110,
      valueGetter: (_, row) => row.run_began ?? '',
      valueFormatter: (_, row) => (row.run_began ? ago(row.run_began, now) : 'none yet'),
    },
    { field: 'has', sortable: false, headerName: 'Releases', flex: 4, minWidth: 280, valueGetter: (_, row) => releasesOf(row, now) },
    {
      field: 'last_contact',
      headerName: 'Last contact',
      width: 110,
      valueGetter: (_, row) => row.last_heard ?? '',
      valueFormatter: (_, row) => (row.last_heard ? ago(row.last_heard, now) : 'none yet'),
    },
    { field: 'mode', sortable: false, headerName: 'Mode', width: 75, valueGetter: (_, row) => row.mode ?? '–' },
    { field: 'stage', sortable: false, headerName: 'Stage', width: 95, valueGetter: (_, row) => row.stage ?? '–' },
    { field: 'groups', sortable: false, headerName: 'Groups', flex: 1, minWidth: 140, valueGetter: (_, row) => (row.groups ?? []).join(' ') },
    { field: 'os', sortable: false, headerName: 'System', width: 120, valueGetter: (_, row) => system(row) },
    { field: 'problems', sortable: false, headerName: 'Problems', width: 130, valueGetter: (_, row) => (row.problems ?? []).map(problemWords).join(', ') },
    {
      field: 'labels',
      sortable: false,
      headerName: 'Labels',
      flex: 2,
      minWidth: 180,
      valueGetter: (_, row) => labelsOf(row),
      renderCell: ({ value }) => <Address>{String(value)}</Address>,
    },
  ];
}

function NoMatch() {
  return (
    <Box sx={{ p: 3 }}>
      <Typography>No node matches. Relax the filter to see more.</Typography>
    </Box>
  );
}

function NoNodesYet() {
  return (
    <Box sx={{ p: 3, display: 'flex', gap: 1 }}>
      <StatusGlyph status="never_reported" />
      <Typography>
        No nodes yet. <Address>constans invite</Address> creates an invitation for the first one.
      </Typography>
    </Box>
  );
}
