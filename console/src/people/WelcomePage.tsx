import Button from '@mui/material/Button';
import Stack from '@mui/material/Stack';
import TextField from '@mui/material/TextField';
import Typography from '@mui/material/Typography';
import { useMutation, useQuery, useQueryClient } from '@tanstack/react-query';
import { useEffect, useState } from 'react';
import { useNavigate } from 'react-router';
import { api, keepToken } from '../api/client';
import { QueryView } from '../shell/QueryView';
import { sessionQuery } from '../shell/session';
import { EntryCard } from './EntryCard';

/** First sign-in by a one-time link: the person chooses a password. */
export function WelcomePage() {
  // Behind the `#`, which browsers send to nobody.
  const [secret] = useState(() => location.hash.slice(1));
  const whom = useQuery({ queryKey: ['welcome'], queryFn: () => api.welcomeFor(secret), refetchInterval: false, staleTime: Infinity });
  useEffect(() => {
    document.title = 'Welcome · Constans';
  }, []);
  if (whom.error) {
    return (
      <EntryCard title="Welcome" failure={whom.error}>
        <Typography>Each link works once, for 24 hours.</Typography>
      </EntryCard>
    );
  }
  return <QueryView query={whom}>{(whom) => <ChoosePassword secret={secret} name={whom.name ?? undefined} />}</QueryView>;
}

function ChoosePassword({ secret, name }: { secret: string; name?: string }) {
  const queries = useQueryClient();
  const navigate = useNavigate();
  const [chosenName, setName] = useState('');
  const [password, setPassword] = useState('');
  const [again, setAgain] = useState('');
  const welcome = useMutation({
    mutationFn: () => api.welcome({ secret, name: name ?? chosenName, password }),
    onSuccess: (session) => {
      keepToken(session.token);
      queries.setQueryData(sessionQuery.queryKey, session);
      void navigate('/', { replace: true });
    },
  });
  const differs = again !== '' && again !== password;
  return (
    <EntryCard title={name ? `Welcome, ${name}` : 'Welcome, first administrator'} failure={welcome.error}>
      <Stack
        component="form"
        spacing={2}
        onSubmit={(event) => {
          event.preventDefault();
          if (password === again) welcome.mutate();
        }}
      >
        {!name && (
          <TextField
            label="Your name"
            value={chosenName}
            onChange={(event) => setName(event.target.value)}
            autoComplete="username"
            autoFocus
            required
            helperText="lower-case letters and dots, for example ilse.maren"
          />
        )}
        <TextField
          label="Password"
          type="password"
          value={password}
          onChange={(event) => setPassword(event.target.value)}
          autoComplete="new-password"
          required
          helperText="at least 12 characters; several words are easy to remember"
        />
        <TextField
          label="Repeat password"
          type="password"
          value={again}
          onChange={(event) => setAgain(event.target.value)}
          autoComplete="new-password"
          required
          error={differs}
          helperText={differs ? 'the passwords differ' : ' '}
        />
        <Button type="submit" variant="contained" size="medium" loading={welcome.isPending} disabled={differs}>
          Set password
        </Button>
      </Stack>
    </EntryCard>
  );
}
