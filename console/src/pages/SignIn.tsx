import { useState } from 'react';
import { Button, Divider, PasswordInput, Stack, Text, TextInput, Title } from '@mantine/core';
import { useMutation, useQuery, useQueryClient } from '@tanstack/react-query';
import { useNavigate } from 'react-router';
import { api, take } from '../api/client';
import { Failure } from '../components/Bits';

export function SignIn() {
  const [name, setName] = useState('');
  const [password, setPassword] = useState('');
  const cache = useQueryClient();
  const go = useNavigate();
  const ways = useQuery({
    queryKey: ['ways-in'],
    queryFn: () => take(api.GET('/api/v1/session/ways')),
    staleTime: Infinity,
  });
  const onSuccess = async () => {
    cache.clear();
    await go('/');
  };
  const enter = useMutation({
    mutationFn: () => take(api.POST('/api/v1/session', { body: { name, password, kind: 'cookie' } })),
    onSuccess,
  });
  const byTicket = useMutation({
    mutationFn: () => take(api.POST('/api/v1/session/ticket', { body: { kind: 'cookie' } })),
    onSuccess,
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
          {ways.data?.tickets && (
            <>
              <Divider label="or" labelPosition="center" />
              <Button
                variant="default"
                loading={byTicket.isPending}
                onClick={() => {
                  byTicket.mutate();
                }}
              >
                Use the ticket of {ways.data.domain}
              </Button>
              {byTicket.error && (
                <>
                  <Failure error={byTicket.error} />
                  <Text size="xs">
                    The browser gives its ticket only to names that it was told: for Chromium, the policy
                    AuthServerAllowlist with {window.location.hostname}. On Linux it is started once more
                    after the first try.
                  </Text>
                </>
              )}
              <Text size="xs" c="dimmed">
                With a name and a password too: name@{ways.data.domain}
              </Text>
            </>
          )}
          <Text size="xs" c="dimmed">
            With the client: beacon sign-in{ways.data?.tickets ? ' --ticket' : ''}
          </Text>
        </Stack>
      </form>
    </main>
  );
}
