import { useState } from 'react';
import { Button, Group, Loader, Modal, Stack, Text, TextInput } from '@mantine/core';
import { useMutation, useQuery, useQueryClient } from '@tanstack/react-query';
import { api, take, type AnchorInfo, type TrustAct, type TrustStoreInfo } from '../api/client';
import { commonName, counted, shellWord, shortHost } from '../words';
import { CommandLine, Failure } from './Bits';
import { OrderProgress } from './OrderProgress';
import { useOnceKey } from './useOnceKey';

export type Act = Exclude<TrustAct, 'unknown'>;

const acts: Record<Act, { title: string; go: string; verb: string }> = {
  push: { title: 'Have trusted', go: 'Push it', verb: 'push' },
  withdraw: { title: 'Take out what was pushed:', go: 'Withdraw it', verb: 'withdraw' },
  distrust: { title: 'End the trust in', go: 'Distrust it', verb: 'distrust' },
  'trust-again': { title: 'Trust again', go: 'Trust it again', verb: 'again' },
};

/** A change of trust in one store, or in all that it applies to; always with whom it hurts before it. */
export function TrustDialog({
  anchor,
  act,
  store,
  close,
}: {
  anchor: AnchorInfo;
  act: Act;
  store: TrustStoreInfo | null;
  close: () => void;
}) {
  const [reason, setReason] = useState('');
  const cache = useQueryClient();
  const wish = {
    act,
    anchor: anchor.thumbprint,
    stores: store ? [store.id] : null,
    hosts: null,
    kind: null,
    reason: reason || null,
  };
  const plan = useQuery({
    queryKey: ['trust-plan', act, anchor.thumbprint, store?.id],
    queryFn: () => take(api.POST('/api/v1/trust/plan', { body: { ...wish, reason: null } })),
    retry: false,
    staleTime: 0,
    gcTime: 0,
  });
  const onceKey = useOnceKey(JSON.stringify(wish));
  const go = useMutation({
    mutationFn: () =>
      take(api.POST('/api/v1/trust/changes', { body: wish, headers: { 'Idempotency-Key': onceKey() } })),
    onSuccess: () => cache.invalidateQueries({ queryKey: ['trust-stores'] }),
  });
  const words = acts[act];
  const count = plan.data?.count ?? 0;
  const command = [
    `beacon trust ${words.verb} ${anchor.thumbprint.slice(0, 16)}`,
    store && `--store ${store.id}`,
    `--reason ${shellWord(reason || 'TEXT')}`,
  ]
    .filter(Boolean)
    .join(' ');
  return (
    <Modal
      opened
      onClose={close}
      title={`${words.title} ${commonName(anchor.subject)}`}
      centered
      size="xl"
      closeButtonProps={{ 'aria-label': 'Close' }}
    >
      <Stack gap="sm">
        {go.data ? (
          <>
            {go.data.orders.length === 1 && go.data.orders[0] !== undefined ? (
              <OrderProgress id={go.data.orders[0]} />
            ) : (
              <Text size="sm" role="status">
                {go.data.orders.length === 0
                  ? 'It is ordered already.'
                  : `${go.data.orders.length} stores are ordered to be changed.`}
                {go.data.left > 0 &&
                  ` ${go.data.left} remain: do the same again when these have proved good.`}
              </Text>
            )}
            <Group justify="flex-end">
              <Button onClick={close}>Close</Button>
            </Group>
          </>
        ) : (
          <>
            {plan.isPending && <Loader size="sm" aria-label="Working out what it changes" />}
            {plan.error && <Failure error={plan.error} />}
            {plan.data && (
              <>
                <Text size="sm">
                  {counted(count, 'No store is changed by it.', '1 store is changed:', 'stores are changed:')}
                </Text>
                <ul style={{ margin: 0, paddingLeft: 18 }}>
                  {plan.data.stores.slice(0, 8).map((s) => (
                    <li key={s.id}>
                      {s.reader} on {shortHost(s.host)} <span className="mono dim">{s.path}</span>
                    </li>
                  ))}
                  {count > 8 && <li>and {count - 8} more</li>}
                </ul>
                <div role="note">
                  {plan.data.consequences.map((c) => (
                    <Text size="sm" key={c}>
                      ◆ {c}
                    </Text>
                  ))}
                </div>
                {plan.data.services.length > 0 && (
                  <Text size="xs" className="mono dim">
                    {plan.data.services.slice(0, 6).join(', ')}
                    {anchor.services > 6 && ` and ${anchor.services - 6} more`}
                  </Text>
                )}
              </>
            )}
            <TextInput
              label="Reason"
              description="For the journal"
              required
              value={reason}
              onChange={(e) => {
                setReason(e.currentTarget.value);
              }}
            />
            <CommandLine command={command} />
            {go.error && <Failure error={go.error} />}
            <Group justify="flex-end">
              <Button variant="default" onClick={close}>
                Leave it as it is
              </Button>
              <Button
                disabled={count === 0 || reason.trim() === ''}
                loading={go.isPending}
                onClick={() => {
                  go.mutate();
                }}
              >
                {words.go}
              </Button>
            </Group>
          </>
        )}
      </Stack>
    </Modal>
  );
}
