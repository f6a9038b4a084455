import { Button, Group, Loader, Modal, SegmentedControl, Stack, Text } from '@mantine/core';
import { useMutation, useQuery, useQueryClient } from '@tanstack/react-query';
import { useState } from 'react';
import { api, take, type ServiceInfo } from '../api/client';
import { CommandLine, Failure } from './Bits';
import { OrderProgress } from './OrderProgress';
import { PlanView } from './PlanView';
import { useOnceKey } from './useOnceKey';
import { backWord, read, shellWord, shortHost } from '../words';

/** What is ended: all use without TLS, or all versions of TLS below one. */
type Demand = 'tls' | 'tls12' | 'tls13';

const demands: { value: Demand; label: string }[] = [
  { value: 'tls', label: 'End clear text' },
  { value: 'tls12', label: 'TLS 1.2 at least' },
  { value: 'tls13', label: 'TLS 1.3 at least' },
];

/** Ends what a service lets pass without TLS or in old versions, or puts it back; always with what would change before it. */
export function TlsDialog({
  service: s,
  undo,
  close,
}: {
  service: ServiceInfo;
  undo: boolean;
  close: () => void;
}) {
  const about = `${shortHost(s.host)}/${s.name}`;
  const path = { params: { path: { host: s.host, service: s.name } } };
  const [demand, setDemand] = useState<Demand>(s.clearText ? 'tls' : 'tls12');
  const lowest = demand === 'tls' ? null : demand;
  const cache = useQueryClient();
  const plan = useQuery({
    queryKey: ['tls-plan', s.host, s.name, undo, demand],
    queryFn: () =>
      take(
        api.POST('/api/v1/services/{host}/{service}/tls-required/plan', {
          ...path,
          body: { required: !undo, lowest: undo ? null : lowest },
        }),
      ),
    retry: false,
    staleTime: 0,
    gcTime: 0,
  });
  const onceKey = useOnceKey(`${String(undo)} ${demand}`);
  const go = useMutation({
    mutationFn: () => {
      const call = { ...path, headers: { 'Idempotency-Key': onceKey() } };
      if (undo) return take(api.DELETE('/api/v1/services/{host}/{service}/tls-required', call));
      return lowest
        ? take(api.PUT('/api/v1/services/{host}/{service}/lowest-version', { ...call, body: { lowest } }))
        : take(api.PUT('/api/v1/services/{host}/{service}/tls-required', call));
    },
    onSuccess: () => cache.invalidateQueries({ queryKey: ['host', s.host] }),
  });
  const change = plan.data?.plan;
  return (
    <Modal
      opened
      onClose={close}
      title={undo ? `Put ${about} back as it was` : `Require TLS of ${about}`}
      centered
      size="xl"
      closeButtonProps={{ 'aria-label': 'Close' }}
    >
      {go.data ? (
        <Stack gap="sm">
          <OrderProgress id={go.data.order} />
          <Group justify="flex-end">
            <Button onClick={close}>Close</Button>
          </Group>
        </Stack>
      ) : (
        <Stack gap="sm">
          {!undo && (
            <SegmentedControl
              aria-label="What to end"
              size="xs"
              value={demand}
              onChange={(v) => {
                setDemand(v);
              }}
              data={demands.filter((d) => d.value !== 'tls' || s.clearText)}
            />
          )}
          {!undo && demand === 'tls' && <Readable service={s} />}
          {plan.isPending && (
            <Group gap="xs">
              <Loader size="sm" aria-hidden />{' '}
              <Text size="sm">Asking {shortHost(s.host)} what would change …</Text>
            </Group>
          )}
          {plan.error && <Failure error={plan.error} />}
          {change && <PlanView plan={change} />}
          {change && change.changes.length > 0 && !undo && <Text size="sm">{proof[demand]}</Text>}
          <CommandLine
            command={`beacon require-tls ${shellWord(about)}${undo ? ' --undo' : option[demand]}`}
          />
          {go.error && <Failure error={go.error} />}
          <Group justify="flex-end">
            <Button variant="default" onClick={close}>
              Leave it as it is
            </Button>
            <Button
              disabled={!change || change.changes.length === 0}
              loading={go.isPending}
              onClick={() => {
                go.mutate();
              }}
            >
              {undo ? backWord(s) : 'Require TLS'}
            </Button>
          </Group>
        </Stack>
      )}
    </Modal>
  );
}

const proof: Record<Demand, string> = {
  tls: 'Afterwards the agent tries the service without TLS. Where that still works, everything is put back.',
  tls12:
    'Afterwards the agent greets the service in each version. Where an old one is still taken, everything is put back.',
  tls13:
    'Afterwards the agent greets the service in each version. Where an old one is still taken, everything is put back.',
};

const option: Record<Demand, string> = { tls: '', tls12: ' --lowest 1.2', tls13: ' --lowest 1.3' };

/** What a listener on the wire reads today, for each way in. */
function Readable({ service: s }: { service: ServiceInfo }) {
  const open = s.endpoints.filter((e) => e.clearText);
  return (
    <ul style={{ margin: 0, paddingLeft: 18 }}>
      {open.map((e) => (
        <li key={`${e.address}:${e.port}`}>
          Whoever listens on the wire to{' '}
          <span className="nowrap">
            {e.address}:{e.port}
          </span>{' '}
          can read the {read(e.readable)} of clients without TLS.
        </li>
      ))}
    </ul>
  );
}
