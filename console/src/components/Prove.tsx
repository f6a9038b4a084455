import { useEffect, useRef, useState } from 'react';
import { Button, Group, Modal, PasswordInput, Stack, Text } from '@mantine/core';
import { useMutation } from '@tanstack/react-query';
import { api, onSignInAgain, take } from '../api/client';
import { Failure } from './Bits';

/** Asks for the password again where a call would outlast the session; the call then goes on by itself. */
export function Prove({ person }: { person: string }) {
  const [opened, setOpened] = useState(false);
  const [password, setPassword] = useState('');
  const waiting = useRef<((proved: boolean) => void)[]>([]);
  const end = (proved: boolean) => {
    setOpened(false);
    setPassword('');
    for (const go of waiting.current.splice(0)) go(proved);
  };
  useEffect(() => {
    onSignInAgain(
      () =>
        new Promise((resolve) => {
          waiting.current.push(resolve);
          setOpened(true);
        }),
    );
    return () => {
      onSignInAgain(null);
    };
  }, []);
  const confirm = useMutation({
    mutationFn: () => take(api.POST('/api/v1/session/confirm', { body: { password } })),
    onSuccess: () => {
      end(true);
    },
  });
  return (
    <Modal
      opened={opened}
      onClose={() => {
        end(false);
      }}
      title="Your password again"
      centered
      zIndex={400}
      closeButtonProps={{ 'aria-label': 'Close' }}
    >
      <form
        onSubmit={(e) => {
          e.preventDefault();
          confirm.mutate();
        }}
      >
        <Stack>
          <Text size="sm">
            What this does lasts longer than a sign-in. Give your password, so that nobody does it from a desk
            that was left open.
          </Text>
          <input type="text" name="username" autoComplete="username" value={person} readOnly hidden />
          <PasswordInput
            label={`Password of ${person}`}
            autoComplete="current-password"
            required
            data-autofocus
            value={password}
            onChange={(e) => {
              setPassword(e.currentTarget.value);
            }}
            visibilityToggleButtonProps={{ 'aria-label': 'Show the password' }}
          />
          {confirm.error && <Failure error={confirm.error} />}
          <Group justify="flex-end">
            <Button
              variant="default"
              onClick={() => {
                end(false);
              }}
            >
              Not now
            </Button>
            <Button type="submit" loading={confirm.isPending}>
              Go on
            </Button>
          </Group>
        </Stack>
      </form>
    </Modal>
  );
}
