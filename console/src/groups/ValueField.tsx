import MenuItem from '@mui/material/MenuItem';
import TextField from '@mui/material/TextField';
import { useState } from 'react';
import { mono } from '../looks/theme';
import { describedValue, typedValue } from './values';

interface Field {
  label: string;
  /** None if the group does not give it. */
  value: unknown;
  isText: boolean;
  /** What values it takes, in words. */
  takes: string;
  disabled: boolean;
  onValue: (value: unknown) => void;
}

/** A value that a group gives; empty for none. What is typed is taken when the field is left. */
export function ValueField({ label, value, isText, takes, disabled, onValue }: Field) {
  const given = value === undefined ? '' : describedValue(value);
  const [typed, setTyped] = useState(given);
  const [shown, setShown] = useState(given);
  if (given !== shown) {
    setShown(given);
    setTyped(given);
  }
  const words = choices(takes);
  const common = {
    size: 'small',
    fullWidth: true,
    disabled,
    slotProps: { htmlInput: { 'aria-label': label, style: { fontFamily: mono, fontSize: 14 } } },
  } as const;
  if (words) {
    return (
      <TextField
        select
        {...common}
        value={given}
        onChange={(event) => onValue(event.target.value === '' ? undefined : typedValue(event.target.value, isText))}
        slotProps={{ select: { displayEmpty: true }, htmlInput: { 'aria-label': label } }}
      >
        <MenuItem value="">not given</MenuItem>
        {words.map((word) => (
          <MenuItem key={word} value={word}>
            {word}
          </MenuItem>
        ))}
      </TextField>
    );
  }
  const take = () => {
    if (typed !== given) onValue(typed === '' ? undefined : typedValue(typed, isText));
  };
  return (
    <TextField
      {...common}
      value={typed}
      placeholder="not given"
      onChange={(event) => setTyped(event.target.value)}
      onBlur={take}
      onKeyDown={(event) => {
        if (event.key === 'Enter') take();
        if (event.key === 'Escape') setTyped(given);
      }}
    />
  );
}

/** The words that a value is chosen from, if it takes only some. */
function choices(takes: string): string[] | undefined {
  if (takes.startsWith('`')) return [...takes.matchAll(/`([^`]+)`/g)].map((match) => match[1] ?? '');
  const listed = takes.split('one of ')[1];
  return listed?.split(', ').map((word) => describedValue(typedValue(word, false)));
}
