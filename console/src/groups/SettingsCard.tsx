import Button from '@mui/material/Button';
import Table from '@mui/material/Table';
import TableBody from '@mui/material/TableBody';
import TableCell from '@mui/material/TableCell';
import TableHead from '@mui/material/TableHead';
import TableRow from '@mui/material/TableRow';
import Typography from '@mui/material/Typography';
import { useState } from 'react';
import type { Schemas } from '../api/client';
import { Address } from '../looks/Address';
import { Card } from '../looks/Card';
import { EndField, momentOf, typedMoment } from '../looks/EndField';
import { GivenElsewhere } from './GivenElsewhere';
import type { Part } from './GroupPage';
import { ValueField } from './ValueField';
import { describedValue } from './values';

type Setting = Schemas['SettingView'];

/** How the agents of the group's nodes work: what the group sets, what other groups set, and what the rest is usually. */
export function SettingsCard({ draft, settings, nodes, mayEdit }: Part & { settings: Setting[]; nodes: number }) {
  const [isWhole, setWhole] = useState(false);
  const values = draft.draft.settings as Record<string, unknown>;
  const isSet = ({ word, below, above }: Setting) => values?.[word] !== undefined || below.length + above.length > 0;
  const shown = settings.filter((setting) => isWhole || isSet(setting));
  const others = settings.length - settings.filter(isSet).length;
  return (
    <Card title="Agent settings">
      {shown.length > 0 && (
        <Table size="small" aria-label="Agent settings" sx={{ tableLayout: 'fixed' }}>
          <TableHead>
            <TableRow>
              <TableCell sx={{ width: '40%' }}>Setting</TableCell>
              <TableCell sx={{ width: '32%' }}>Here</TableCell>
              <TableCell>In other groups of these nodes</TableCell>
            </TableRow>
          </TableHead>
          <TableBody>
            {shown.map((setting) => (
              <SettingRow key={setting.word} setting={setting} nodes={nodes} draft={draft} mayEdit={mayEdit} />
            ))}
          </TableBody>
        </Table>
      )}
      {others > 0 && (
        <Button variant="text" onClick={() => setWhole(!isWhole)} sx={{ mt: 1 }} aria-expanded={isWhole}>
          {isWhole ? 'Only what is set' : `${others} more, which no group of these nodes sets`}
        </Button>
      )}
    </Card>
  );
}

function SettingRow({ setting, nodes, draft, mayEdit }: Part & { setting: Setting; nodes: number }) {
  const { word, means, takes, recommended, usual, below, above } = setting;
  const values = (draft.draft.settings ?? {}) as Record<string, unknown>;
  const [isTimed, setTimed] = useState(false);
  const isSet = values[word] !== undefined && mayEdit;
  const set = (value: unknown) => {
    const { [word]: _, ...others } = values;
    const { [word]: _end, ...ends } = draft.draft.settings_until ?? {};
    const settings = (value === undefined ? others : { ...others, [word]: value }) as Schemas['GroupSettings'];
    // Another value has no end until one is said.
    draft.set({ settings, settings_until: ends });
  };
  const end = draft.draft.settings_until?.[word];
  const setEnd = (typed: string) => {
    const { [word]: _, ...ends } = draft.draft.settings_until ?? {};
    const until = momentOf(typed);
    draft.set({ settings_until: until ? { ...ends, [word]: { ...end, until } } : ends });
  };
  const load = loadWords(word, values[word], nodes);
  return (
    <TableRow sx={{ verticalAlign: 'top' }}>
      <TableCell>
        <Address>{word}</Address>
        <Typography sx={{ fontSize: 14 }}>{means}</Typography>
        <Typography sx={{ fontSize: 14, color: 'text.secondary' }}>
          {takes.replaceAll('`', '')}. Recommended: {recommended}.
        </Typography>
      </TableCell>
      <TableCell>
        <ValueField label={word} value={values[word]} isText={word === 'zone'} takes={takes} disabled={!mayEdit} onValue={set} />
        <Typography sx={{ fontSize: 14, color: 'text.secondary', mt: 0.5 }}>
          {values[word] === undefined ? `usually ${usual}` : (setting.words ?? '')}
        </Typography>
        {isSet && (end || isTimed) && <EndField label={`${word} until (UTC)`} end={typedMoment(end?.until)} onEnd={setEnd} />}
        {isSet && !end && !isTimed && (
          <Button variant="text" size="small" onClick={() => setTimed(true)} aria-label={`for a time… ${word}`} sx={{ p: 0, minWidth: 0, fontWeight: 400 }}>
            for a time…
          </Button>
        )}
        {end?.then !== undefined && end.then !== null && (
          <Typography sx={{ fontSize: 14, color: 'text.secondary' }}>then {describedValue(end.then)} again</Typography>
        )}
        {load && <Typography sx={{ fontSize: 14, color: 'text.secondary' }}>{load}</Typography>}
      </TableCell>
      <TableCell>
        <GivenElsewhere below={below} above={above} />
      </TableCell>
    </TableRow>
  );
}

/** How many check-ins or runs an interval makes of so many nodes. */
export function loadWords(word: string, value: unknown, nodes: number): string | undefined {
  if (!word.endsWith('interval_secs') || typeof value !== 'number' || value <= 0 || nodes === 0) return undefined;
  const what = word === 'interval_secs' ? 'check-ins' : 'runs';
  const perMinute = (nodes * 60) / value;
  const rounded = perMinute >= 10 ? Math.round(perMinute) : Math.round(perMinute * 10) / 10;
  return `about ${rounded.toLocaleString('en')} ${what} a minute from ${nodes.toLocaleString('en')} nodes`;
}
