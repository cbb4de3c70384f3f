import Button from '@mui/material/Button';
import Stack from '@mui/material/Stack';
import TextField from '@mui/material/TextField';
import { useMutation, useQueryClient } from '@tanstack/react-query';
import { useEffect, useState } from 'react';
import { api, keepToken } from '../api/client';
import { sessionQuery } from '../shell/session';
import { EntryCard } from './EntryCard';

/** Sign-in by name and password. Afterwards the requested page is shown. */
export function SignInPage() {
  const queries = useQueryClient();
  const [name, setName] = useState('');
  const [password, setPassword] = useState('');
  useEffect(() => {
    document.title = 'Sign in · Constans';
  }, []);
  const signIn = useMutation({
    mutationFn: () => api.signIn({ name, password }),
    onSuccess: (session) => {
      keepToken(session.token);
      queries.setQueryData(sessionQuery.queryKey, session);
    },
  });
  return (
    <EntryCard title="Sign in" failure={signIn.error}>
      <Stack
        component="form"
        spacing={2}
        onSubmit={(event) => {
          event.preventDefault();
          signIn.mutate();
        }}
      >
        <TextField label="Name" value={name} onChange={(event) => setName(event.target.value)} autoComplete="username" autoFocus required />
        <TextField
          label="Password"
          type="password"
          value={password}
          onChange={(event) => setPassword(event.target.value)}
          autoComplete="current-password"
          required
        />
        <Button type="submit" variant="contained" size="medium" loading={signIn.isPending}>
          Sign in
        </Button>
      </Stack>
    </EntryCard>
  );
}
