import { useState } from 'react';
import { Button, PasswordInput, Stack, Text, TextInput, Title } from '@mantine/core';
import { useMutation, useQueryClient } from '@tanstack/react-query';
import { useNavigate } from 'react-router';
import { api, take } from '../api/client';
import { Failure } from '../components/Bits';

export function SignIn() {
  const [name, setName] = useState('');
  const [password, setPassword] = useState('');
  const cache = useQueryClient();
  const go = useNavigate();
  const enter = useMutation({
    mutationFn: () => take(api.POST('/api/v1/session', { body: { name, password, kind: 'cookie' } })),
    onSuccess: async () => {
      cache.clear();
      await go('/');
    },
  });
  return (
    <main>
      <form
        onSubmit={(e) => {
          e.preventDefault();
          enter.mutate();
        }}
      >
        <Stack w={360} mx="auto" mt={120} className="sheet" gap="md">
          <Title order={1} fz="xl">
            Orderly Beacon
          </Title>
          <TextInput
            label="Name"
            autoComplete="username"
            autoFocus
            required
            value={name}
            onChange={(e) => {
              setName(e.currentTarget.value);
            }}
          />
          <PasswordInput
            label="Password"
            autoComplete="current-password"
            required
            value={password}
            onChange={(e) => {
              setPassword(e.currentTarget.value);
            }}
            visibilityToggleButtonProps={{ 'aria-label': 'Show the password' }}
          />
          {enter.error && <Failure error={enter.error} />}
          <Button type="submit" loading={enter.isPending}>
            Sign in
          </Button>
          <Text size="xs" c="dimmed">
            With the client: beacon sign-in
          </Text>
        </Stack>
      </form>
    </main>
  );
}
