import { useState } from 'react';
import { Button, Group, Modal, NativeSelect, NumberInput, Stack, Text, TextInput } from '@mantine/core';
import { useMutation, useQuery, useQueryClient } from '@tanstack/react-query';
import { api, take } from '../api/client';
import { shellWord, when } from '../words';
import { CommandLine, Failure } from './Bits';
import { reasons } from './reasons';
import { useNow } from './useNow';

/** Revokes all editions of one host, or of one revision of a profile: counted and named first, done only with that number. */
export function RevokeSeveral({ close }: { close: () => void }) {
  const now = useNow();
  const cache = useQueryClient();
  const [by, setBy] = useState<'host' | 'profile'>('host');
  const [which, setWhich] = useState('');
  const [revision, setRevision] = useState<number | string>('');
  const [reason, setReason] = useState('key-compromise');
  const profiles = useQuery({ queryKey: ['profiles'], queryFn: () => take(api.GET('/api/v1/profiles')) });
  const wish = {
    reason,
    serials: null,
    host: by === 'host' ? which.trim() : null,
    profile: by === 'profile' ? which : null,
    revision: by === 'profile' && revision !== '' ? Number(revision) : null,
  };
  const ready = which.trim() !== '' && (by === 'host' || wish.revision !== null);
  const found = useMutation({
    mutationFn: () => take(api.POST('/api/v1/revocations', { body: { ...wish, count: null } })),
  });
  const revoke = useMutation({
    mutationFn: (count: number) => take(api.POST('/api/v1/revocations', { body: { ...wish, count } })),
    onSuccess: () => cache.invalidateQueries({ queryKey: ['certificates'] }),
  });
  const changed = () => {
    found.reset();
    revoke.reset();
  };
  const command = `beacon cert revoke-all ${by === 'host' ? `--host ${shellWord(which || 'HOST')}` : `--profile ${shellWord(which || 'PROFILE')} --revision ${revision || 'N'}`} --reason ${reason}`;
  return (
    <Modal
      opened
      onClose={close}
      title="Revoke several"
      size="lg"
      centered
      closeButtonProps={{ 'aria-label': 'Close' }}
    >
      <Stack gap="sm">
        <Group grow align="flex-end">
          <NativeSelect
            label="All that were issued"
            value={by}
            data={[
              { value: 'host', label: 'for one host' },
              { value: 'profile', label: 'by one revision of a profile' },
            ]}
            onChange={(e) => {
              setBy(e.currentTarget.value as 'host' | 'profile');
              setWhich('');
              changed();
            }}
          />
          {by === 'host' ? (
            <TextInput
              label="Host"
              placeholder="web01"
              value={which}
              onChange={(e) => {
                setWhich(e.currentTarget.value);
                changed();
              }}
            />
          ) : (
            <>
              <NativeSelect
                label="Profile"
                value={which}
                data={['', ...(profiles.data ?? []).map((p) => p.id)]}
                onChange={(e) => {
                  setWhich(e.currentTarget.value);
                  changed();
                }}
              />
              <NumberInput
                label="Revision"
                min={1}
                value={revision}
                onChange={(v) => {
                  setRevision(v);
                  changed();
                }}
              />
            </>
          )}
          <NativeSelect
            label="Reason"
            value={reason}
            data={reasons}
            onChange={(e) => {
              setReason(e.currentTarget.value);
              changed();
            }}
          />
        </Group>
        {found.error && <Failure error={found.error} />}
        {found.data && !revoke.data && (
          <div role="status">
            <Text size="sm" fw={600}>
              {found.data.count === 0
                ? 'No valid edition matches.'
                : `${found.data.count} valid ${found.data.count === 1 ? 'edition' : 'editions'}:`}
            </Text>
            <ul style={{ margin: '4px 0', paddingLeft: 18, fontSize: 13 }}>
              {found.data.items.slice(0, 12).map((i) => (
                <li key={i.serial}>
                  {i.certificate}, until {when(i.notAfter, now)}
                </li>
              ))}
              {found.data.count > 12 && <li>and {found.data.count - 12} more</li>}
            </ul>
            {found.data.items.some((i) => i.certificate.startsWith('agent:')) && (
              <Text size="sm">
                ◆ The agent’s own is among them: nothing on the host is renewed until it is invited and joins
                again.
              </Text>
            )}
          </div>
        )}
        {revoke.data && (
          <Text size="sm" role="status">
            ○ {revoke.data.count} revoked; the list is published. What renews itself gets its successor now.
          </Text>
        )}
        {revoke.error && <Failure error={revoke.error} />}
        <CommandLine command={command} />
        <Group justify="flex-end">
          <Button variant="default" onClick={close}>
            {revoke.data ? 'Close' : 'Leave them'}
          </Button>
          {!found.data || found.data.count === 0 ? (
            <Button
              disabled={!ready}
              loading={found.isPending}
              onClick={() => {
                found.mutate();
              }}
            >
              Show which
            </Button>
          ) : (
            !revoke.data && (
              <Button
                color="signal.7"
                c="white"
                loading={revoke.isPending}
                onClick={() => {
                  revoke.mutate(found.data.count);
                }}
              >
                Revoke {found.data.count}
              </Button>
            )
          )}
        </Group>
        {!ready && (
          <Text size="xs" c="dimmed" ta="right">
            Name the host, or the profile and its revision.
          </Text>
        )}
      </Stack>
    </Modal>
  );
}
