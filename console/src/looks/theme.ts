import { createTheme } from '@mui/material/styles';
import type { Schemas } from '../api/client';
import tokens from './tokens.json';

type StatusColours = Record<Schemas['NodeStatus'], string>;

declare module '@mui/material/styles' {
  interface Palette {
    status: StatusColours;
    hairline: string;
    sunken: string;
    accentSoft: string;
  }
  interface PaletteOptions {
    status?: StatusColours;
    hairline?: string;
    sunken?: string;
    accentSoft?: string;
  }
}

const MONO = "ui-monospace, 'DejaVu Sans Mono', 'Liberation Mono', monospace";

/** The palette of one scheme, from the tokens alone: nothing in the console names a colour by itself. */
function palette(scheme: typeof tokens.light) {
  return {
    primary: { main: scheme.accent, contrastText: scheme.surface },
    error: { main: scheme.status.failed },
    warning: { main: scheme.status.unmet },
    info: { main: scheme.accent },
    success: { main: scheme.status.in_line },
    background: { default: scheme.paper, paper: scheme.surface },
    text: { primary: scheme.ink, secondary: scheme.muted },
    divider: scheme.hairline,
    hairline: scheme.hairline,
    sunken: scheme.sunken,
    accentSoft: scheme.accent_soft,
    status: scheme.status,
  };
}

const hairline = '1px solid var(--mui-palette-hairline)';

/** The looks: paper and ink, hairlines instead of shadows, light and dark. */
export const theme = createTheme({
  cssVariables: { colorSchemeSelector: 'data-scheme' },
  colorSchemes: { light: { palette: palette(tokens.light) }, dark: { palette: palette(tokens.dark) } },
  shape: { borderRadius: tokens.shape.radius },
  spacing: tokens.shape.grid,
  typography: {
    fontFamily: tokens.type.family,
    fontSize: tokens.type.size,
    h1: { fontSize: tokens.type.heading, fontWeight: 600, lineHeight: 1.3 },
    h2: { fontSize: 16, fontWeight: 600, lineHeight: 1.4 },
    body1: { fontSize: 15 },
    body2: { fontSize: 14 },
    button: { textTransform: 'none', fontWeight: 600 },
  },
  components: {
    MuiCssBaseline: {
      styleOverrides: {
        body: { fontVariantNumeric: tokens.type.numbers },
        'code, kbd, pre': { fontFamily: MONO, fontSize: '0.9em' },
        ':focus-visible': { outline: '2px solid var(--mui-palette-primary-main)', outlineOffset: 2 },
      },
    },
    MuiPaper: { defaultProps: { elevation: 0 }, styleOverrides: { root: { border: hairline, backgroundImage: 'none' } } },
    MuiButtonBase: { defaultProps: { disableRipple: true } },
    MuiButton: { defaultProps: { disableElevation: true, size: 'small' } },
    MuiLink: { defaultProps: { underline: 'hover' } },
    // Within a text a link is told by more than its colour.
    MuiTypography: { styleOverrides: { root: { '& .MuiLink-root': { textDecoration: 'underline' } } } },
    MuiTableCell: { styleOverrides: { root: { borderBottom: hairline, padding: '5px 12px 5px 0', fontSize: 14 } } },
    MuiTooltip: { defaultProps: { arrow: true, enterDelay: 300 } },
  },
});

/** The fixed-width family, for addresses, filters and commands. */
export const mono = MONO;
