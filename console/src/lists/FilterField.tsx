import Box from '@mui/material/Box';
import InputBase from '@mui/material/InputBase';
import List from '@mui/material/List';
import ListItemButton from '@mui/material/ListItemButton';
import Paper from '@mui/material/Paper';
import Popper from '@mui/material/Popper';
import Typography from '@mui/material/Typography';
import { type KeyboardEvent, useId, useRef, useState } from 'react';
import { flushSync } from 'react-dom';
import { Refused } from '../api/client';
import { mono } from '../looks/theme';
import { complete, completionsAt, type Vocabulary } from './completions';

const MOST_OPTIONS = 8;

interface Props {
  filter: string;
  onFilter: (filter: string) => void;
  error: Error | null;
  vocabulary: Vocabulary;
  placeholder: string;
  label?: string;
  onFocus?: () => void;
}

/** The filter of a list, in CEL: Enter applies it, Tab accepts the marked completion, Escape closes the completions. */
export function FilterField({ filter, onFilter, error, vocabulary, placeholder, label = 'Filter', onFocus }: Props) {
  const [typed, setTyped] = useState(filter);
  const [applied, setApplied] = useState(filter);
  const [caret, setCaret] = useState(0);
  const [marked, setMarked] = useState(0);
  const [isOpen, setOpen] = useState(false);
  const input = useRef<HTMLInputElement>(null);
  const id = useId();
  if (filter !== applied) {
    // The address changed: a link or the back button.
    setApplied(filter);
    setTyped(filter);
  }
  const completions = completionsAt(typed, caret, vocabulary);
  const options = isOpen ? completions.options.slice(0, MOST_OPTIONS) : [];

  const accept = (option: string) => {
    const completed = complete(typed, completions, option);
    // Synchronously, so that the next key press sees the completed text.
    flushSync(() => {
      setTyped(completed.text);
      setCaret(completed.caret);
      setMarked(0);
    });
    input.current?.setSelectionRange(completed.caret, completed.caret);
  };
  const onKeyDown = (event: KeyboardEvent) => {
    const option = options[marked];
    if (event.key === 'Enter') {
      setOpen(false);
      onFilter(typed.trim());
    } else if (event.key === 'Escape') {
      setOpen(false);
    } else if (event.key === 'Tab' && option && !event.shiftKey) {
      event.preventDefault();
      accept(option);
    } else if ((event.key === 'ArrowDown' || event.key === 'ArrowUp') && options.length > 0) {
      event.preventDefault();
      setMarked((marked + (event.key === 'ArrowDown' ? 1 : options.length - 1)) % options.length);
    }
  };
  const problem = error instanceof Refused && error.problem.type === 'filter' ? error.problem : undefined;
  return (
    <Box sx={{ flex: '1 1 0', minWidth: 'min(100%, 320px)' }} data-filter>
      <Paper sx={{ px: 1.5, py: 0.25, borderColor: problem ? 'error.main' : 'divider' }}>
        <InputBase
          fullWidth
          inputRef={input}
          value={typed}
          placeholder={placeholder}
          onChange={(event) => {
            setTyped(event.target.value);
            setCaret(event.target.selectionStart ?? event.target.value.length);
            setMarked(0);
            setOpen(true);
          }}
          onFocus={onFocus}
          onBlur={() => setOpen(false)}
          onKeyDown={onKeyDown}
          inputProps={{
            'aria-label': label,
            role: 'combobox',
            'aria-expanded': options.length > 0,
            'aria-controls': id,
            'aria-activedescendant': options[marked] ? `${id}-${marked}` : undefined,
            'aria-invalid': problem !== undefined,
            'aria-describedby': problem ? `${id}-problem` : undefined,
            spellCheck: false,
            autoComplete: 'off',
          }}
          sx={{ fontFamily: mono, fontSize: 13 }}
        />
      </Paper>
      <Popper open={options.length > 0} anchorEl={input.current} placement="bottom-start" sx={{ zIndex: 'modal' }}>
        <Paper>
          <List dense role="listbox" id={id} aria-label="Completions" sx={{ py: 0.5 }}>
            {options.map((option, at) => (
              <ListItemButton
                key={option}
                id={`${id}-${at}`}
                role="option"
                aria-selected={at === marked}
                selected={at === marked}
                onMouseDown={(event) => {
                  event.preventDefault();
                  accept(option);
                }}
                sx={{ fontFamily: mono, fontSize: 13, py: 0.25 }}
              >
                {option}
              </ListItemButton>
            ))}
          </List>
        </Paper>
      </Popper>
      {problem && (
        <Typography id={`${id}-problem`} role="alert" sx={{ color: 'error.main', fontSize: 13, mt: 0.5 }}>
          {problem.title}
          {problem.hint && ` — ${problem.hint}`}
        </Typography>
      )}
    </Box>
  );
}
