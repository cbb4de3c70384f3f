import AppBar from '@mui/material/AppBar';
import Box from '@mui/material/Box';
import Button from '@mui/material/Button';
import Link from '@mui/material/Link';
import Menu from '@mui/material/Menu';
import MenuItem from '@mui/material/MenuItem';
import { useColorScheme } from '@mui/material/styles';
import Typography from '@mui/material/Typography';
import { useMutation, useQueryClient } from '@tanstack/react-query';
import { useState } from 'react';
import { NavLink } from 'react-router';
import { api, type Schemas } from '../api/client';
import { StatusGlyph } from '../looks/StatusGlyph';
import { roleWords } from '../words/words';
import { ActivityLine } from './ActivityLine';

const PAGES = [
  { to: '/', name: 'Overview' },
  { to: '/nodes', name: 'Nodes' },
  { to: '/drift', name: 'Drift' },
  { to: '/compliance', name: 'Compliance' },
  { to: '/changes', name: 'Changes' },
  { to: '/groups', name: 'Groups' },
  { to: '/kits', name: 'Kits' },
  { to: '/kinds', name: 'Kinds' },
  { to: '/joining', name: 'Joining' },
  { to: '/activity', name: 'Activity' },
];

/** The header of every page: navigation, the server, and the signed-in person. */
export function Header({ session, isConnected }: { session: Schemas['Session']; isConnected: boolean }) {
  return (
    <AppBar position="static" color="transparent" elevation={0} sx={{ border: 0, borderBottom: '1px solid', borderColor: 'divider' }}>
      <Box
        component="nav"
        aria-label="Pages"
        sx={{
          display: 'flex',
          flexWrap: { xs: 'wrap', md: 'nowrap' },
          alignItems: 'stretch',
          columnGap: { xs: 1, md: 2.5 },
          px: { xs: 1, md: 3 },
          minHeight: 51,
        }}
      >
        <Link href="#main" sx={{ position: 'absolute', left: -999, '&:focus': { left: 8, top: 8 } }}>
          Skip to the page
        </Link>
        <Box sx={{ display: 'flex', alignItems: 'center', gap: 1, mr: 1, color: 'primary.main' }}>
          <StatusGlyph status="in_line" size={22} />
          <Typography component="span" sx={{ fontWeight: 600, fontSize: 17, color: 'text.primary' }}>
            Constans
          </Typography>
        </Box>
        <PagesMenu />
        {PAGES.map((page) => (
          <Link
            key={page.to}
            component={NavLink}
            to={page.to}
            end={page.to === '/'}
            underline="none"
            sx={{
              display: { xs: 'none', lg: 'flex' },
              alignItems: 'center',
              color: 'text.secondary',
              borderBottom: '2px solid transparent',
              '&.active': { color: 'text.primary', fontWeight: 600, borderColor: 'primary.main' },
            }}
          >
            {page.name}
          </Link>
        ))}
        <Box sx={{ flex: 1, minWidth: 0, display: 'flex', justifyContent: 'flex-end' }}>
          <ActivityLine />
        </Box>
        {!isConnected && (
          <Typography role="status" sx={{ alignSelf: 'center', color: 'error.main' }}>
            connection to the server lost; retrying
          </Typography>
        )}
        <ServerName server={session.server} />
        <PersonMenu session={session} />
      </Box>
    </AppBar>
  );
}

/** The pages, where there is no room for them side by side. */
function PagesMenu() {
  const [anchor, setAnchor] = useState<HTMLElement>();
  const close = () => setAnchor(undefined);
  return (
    <Box sx={{ display: { xs: 'flex', lg: 'none' }, alignItems: 'center' }}>
      <Button color="inherit" aria-haspopup="menu" aria-expanded={anchor !== undefined} onClick={(event) => setAnchor(event.currentTarget)}>
        Pages
      </Button>
      <Menu anchorEl={anchor} open={anchor !== undefined} onClose={close}>
        {PAGES.map((page) => (
          <MenuItem key={page.to} component={NavLink} to={page.to} end={page.to === '/'} onClick={close} sx={{ '&.active': { fontWeight: 600 } }}>
            {page.name}
          </MenuItem>
        ))}
      </Menu>
    </Box>
  );
}

/** The server, by its title and colour; it leads to how it is. */
function ServerName({ server }: { server: Schemas['ServerAbout'] }) {
  return (
    <Link
      component={NavLink}
      to="/server"
      underline="none"
      sx={{
        whiteSpace: 'nowrap',
        overflow: 'hidden',
        textOverflow: 'ellipsis',
        minWidth: 0,
        alignSelf: 'center',
        px: 1.25,
        py: 0.25,
        borderRadius: 1,
        bgcolor: server.colour ?? 'primary.main',
        color: server.colour ? inkOn(server.colour) : 'primary.contrastText',
      }}
      title={`version ${server.version}, CA ${server.fingerprint}`}
    >
      {server.title}
    </Link>
  );
}

/** Black or white, whichever has the higher contrast on a colour (relative luminance, WCAG 2.2). */
function inkOn(colour: string): string {
  const [red = 0, green = 0, blue = 0] = [1, 3, 5].map((at) => {
    const part = parseInt(colour.slice(at, at + 2), 16) / 255;
    return part <= 0.04045 ? part / 12.92 : ((part + 0.055) / 1.055) ** 2.4;
  });
  return 0.2126 * red + 0.7152 * green + 0.0722 * blue > 0.179 ? 'common.black' : 'common.white';
}

function PersonMenu({ session }: { session: Schemas['Session'] }) {
  const [anchor, setAnchor] = useState<HTMLElement>();
  const { mode, setMode } = useColorScheme();
  const queries = useQueryClient();
  const signOut = useMutation({ mutationFn: api.signOut, onSettled: () => queries.resetQueries() });
  const close = () => setAnchor(undefined);
  return (
    <>
      <Button
        color="inherit"
        aria-haspopup="menu"
        aria-expanded={anchor !== undefined}
        onClick={(event) => setAnchor(event.currentTarget)}
        sx={{ color: 'text.secondary' }}
      >
        {session.person}
      </Button>
      <Menu anchorEl={anchor} open={anchor !== undefined} onClose={close}>
        <MenuItem disabled>{session.roles.map(roleWords).join(', ')}</MenuItem>
        {(['light', 'dark', 'system'] as const).map((scheme) => (
          <MenuItem
            key={scheme}
            selected={mode === scheme}
            onClick={() => {
              setMode(scheme);
              close();
            }}
          >
            {scheme === 'system' ? 'system default' : scheme}
          </MenuItem>
        ))}
        <MenuItem onClick={() => signOut.mutate()}>Sign out</MenuItem>
      </Menu>
    </>
  );
}
