import { Button, Group, Loader, Modal, Stack, Text } from '@mantine/core';
import { useMutation, useQuery, useQueryClient } from '@tanstack/react-query';
import { api, take, type ServiceInfo } from '../api/client';
import { CommandLine, Failure } from './Bits';
import { OrderProgress } from './OrderProgress';
import { PlanView } from './PlanView';
import { useOnceKey } from './useOnceKey';
import { read, shellWord, shortHost } from '../words';

/** Ends what a service lets pass without TLS, or allows it again; always with what would change before it. */
export function TlsDialog({ service: s, close }: { service: ServiceInfo; close: () => void }) {
  const require = !s.requiresTls;
  const about = `${shortHost(s.host)}/${s.name}`;
  const path = { params: { path: { host: s.host, service: s.name } } };
  const cache = useQueryClient();
  const plan = useQuery({
    queryKey: ['tls-plan', s.host, s.name, require],
    queryFn: () =>
      take(
        api.POST('/api/v1/services/{host}/{service}/tls-required/plan', {
          ...path,
          body: { required: require },
        }),
      ),
    retry: false,
    staleTime: 0,
    gcTime: 0,
  });
  const onceKey = useOnceKey(String(require));
  const go = useMutation({
    mutationFn: () => {
      const call = { ...path, headers: { 'Idempotency-Key': onceKey() } };
      return require
        ? take(api.PUT('/api/v1/services/{host}/{service}/tls-required', call))
        : take(api.DELETE('/api/v1/services/{host}/{service}/tls-required', call));
    },
    onSuccess: () => cache.invalidateQueries({ queryKey: ['host', s.host] }),
  });
  const change = plan.data?.plan;
  return (
    <Modal
      opened
      onClose={close}
      title={require ? `Require TLS of ${about}` : `Allow clear text at ${about} again`}
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
          {require && <Readable service={s} />}
          {plan.isPending && (
            <Group gap="xs">
              <Loader size="sm" aria-hidden />{' '}
              <Text size="sm">Asking {shortHost(s.host)} what would change …</Text>
            </Group>
          )}
          {plan.error && <Failure error={plan.error} />}
          {change && <PlanView plan={change} />}
          {change && require && (
            <Text size="sm">
              Afterwards the agent tries the service without TLS. Where that still works, everything is put
              back.
            </Text>
          )}
          <CommandLine command={`beacon require-tls ${shellWord(about)}${require ? '' : ' --undo'}`} />
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
              {require ? 'Require TLS' : 'Allow clear text'}
            </Button>
          </Group>
        </Stack>
      )}
    </Modal>
  );
}

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
