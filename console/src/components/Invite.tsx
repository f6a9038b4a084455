import { useState } from 'react';
import { Button, Group, Modal, Stack, Text, TextInput } from '@mantine/core';
import { useDisclosure } from '@mantine/hooks';
import { useMutation, useQueryClient } from '@tanstack/react-query';
import { api, take } from '../api/client';
import { CommandLine, Failure } from './Bits';
import { shortHost, when } from '../words';

export function Invite({ now }: { now: number }) {
  const [opened, { open, close }] = useDisclosure();
  const [name, setName] = useState('');
  const cache = useQueryClient();
  const invite = useMutation({
    mutationFn: () => take(api.POST('/api/v1/hosts', { body: { name: name.trim() } })),
    onSuccess: () => cache.invalidateQueries({ queryKey: ['hosts'] }),
  });
  return (
    <>
      <Button size="xs" onClick={open}>
        Invite a host
      </Button>
      <Modal
        opened={opened}
        onClose={close}
        title="Invite a host"
        centered
        size="lg"
        closeButtonProps={{ 'aria-label': 'Close' }}
      >
        <form
          onSubmit={(e) => {
            e.preventDefault();
            invite.mutate();
          }}
        >
          <Stack>
            <TextInput
              label="Its full name"
              placeholder="web03.thistledown.example"
              data-autofocus
              value={name}
              onChange={(e) => {
                setName(e.currentTarget.value);
              }}
            />
            {invite.error && <Failure error={invite.error} />}
            {invite.data && (
              <div>
                <Text size="sm">
                  The code is good once, until {when(invite.data.until, now)}. It is shown only now:
                </Text>
                <Text className="mono" my="xs">
                  {invite.data.code}
                </Text>
                <Text size="sm">On {shortHost(invite.data.name)}, run this and paste the code:</Text>
                <CommandLine command={invite.data.command} />
              </div>
            )}
            <Group justify="flex-end">
              <Button variant="default" onClick={close}>
                Close
              </Button>
              <Button type="submit" loading={invite.isPending}>
                Make a join code
              </Button>
            </Group>
          </Stack>
        </form>
      </Modal>
    </>
  );
}
