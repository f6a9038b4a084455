import { useState } from 'react';
import { Button, Group, Loader, Modal, NativeSelect, Stack, Text, TextInput } from '@mantine/core';
import { useMutation, useQuery, useQueryClient } from '@tanstack/react-query';
import { api, take, type CertificateInfo, type ServiceInfo } from '../api/client';
import { CommandLine, Failure } from './Bits';
import { LeaveOut } from './LeaveOut';
import { unsaid } from './unsaid';
import { useOnceKey } from './useOnceKey';
import { OrderProgress } from './OrderProgress';
import { PlanView } from './PlanView';
import { shellWord, shortHost } from '../words';

/** What a dialog is about: putting a certificate into a service, or taking it out again. */
export interface Binding {
  service: ServiceInfo;
  takeOut: boolean;
}

/** Binds an existing certificate to a service, or takes it out; always with what would change before it. */
export function BindDialog({ binding, close }: { binding: Binding; close: () => void }) {
  const { service: s, takeOut } = binding;
  const certificates = useQuery({
    queryKey: ['certificates', 'of', s.host],
    queryFn: () => take(api.GET('/api/v1/certificates', { params: { query: { host: s.host, take: 200 } } })),
    enabled: !takeOut,
  });
  const ready = (certificates.data?.items ?? []).filter((c) => c.host === s.host && c.serial);
  const [chosen, setChosen] = useState<string | null>(null);
  const [port, setPort] = useState('');
  const certificate = takeOut ? null : (chosen ?? best(ready, s)?.name ?? null);
  const about = `${shortHost(s.host)}/${s.name}`;
  return (
    <Modal
      opened
      onClose={close}
      title={takeOut ? `Take the certificate out of ${about}` : `Bind a certificate to ${about}`}
      centered
      size="xl"
      closeButtonProps={{ 'aria-label': 'Close' }}
    >
      <Stack>
        {!takeOut && certificates.isPending && <Loader size="sm" aria-label="Loading" />}
        {certificates.error && <Failure error={certificates.error} />}
        {!takeOut && certificates.data && ready.length === 0 && (
          <Text size="sm">
            No certificate has its key on {shortHost(s.host)}: keys stay where they were made. Request one for
            this host first.
          </Text>
        )}
        {!takeOut && ready.length > 0 && (
          <Group grow align="flex-start">
            <NativeSelect
              label="Certificate"
              data={ready.map((c) => ({ value: c.name, label: `${c.name} (${c.names.join(', ')})` }))}
              value={certificate ?? ''}
              onChange={(e) => {
                setChosen(e.currentTarget.value);
              }}
            />
            {!s.endpoints.some((e) => e.tls) && s.connector === 'nginx' && (
              <TextInput
                label="Port for the new TLS listener"
                placeholder="as other sites, else 443"
                value={port}
                onChange={(e) => {
                  setPort(e.currentTarget.value);
                }}
              />
            )}
          </Group>
        )}
        {(takeOut || certificate) && (
          <Change
            key={`${certificate ?? ''} ${port}`}
            service={s}
            certificate={certificate}
            port={port}
            close={close}
          />
        )}
      </Stack>
    </Modal>
  );
}

/** The one whose names fit the service. */
function best(ready: CertificateInfo[], s: ServiceInfo): CertificateInfo | undefined {
  return ready.find((c) => s.names.some((n) => c.names.includes(n))) ?? ready[0];
}

function Change({
  service: s,
  certificate,
  port,
  close,
}: {
  service: ServiceInfo;
  certificate: string | null;
  port: string;
  close: () => void;
}) {
  const cache = useQueryClient();
  const path = { params: { path: { host: s.host, service: s.name } } };
  const [leaveOut, setLeaveOut] = useState<string[]>([]);
  const wish = { certificate, port: /^\d+$/.test(port) ? Number(port) : null, leaveOut };
  const plan = useQuery({
    queryKey: ['plan', s.host, s.name, certificate, port],
    queryFn: () =>
      take(api.POST('/api/v1/services/{host}/{service}/plan', { ...path, body: { ...wish, leaveOut: [] } })),
    retry: false,
    staleTime: 0,
    gcTime: 0,
  });
  const onceKey = useOnceKey(JSON.stringify(wish));
  const go = useMutation({
    mutationFn: () =>
      certificate
        ? take(
            api.POST('/api/v1/services/{host}/{service}/binding', {
              ...path,
              body: wish,
              headers: { 'Idempotency-Key': onceKey() },
            }),
          )
        : take(
            api.DELETE('/api/v1/services/{host}/{service}/binding', {
              ...path,
              headers: { 'Idempotency-Key': onceKey() },
            }),
          ),
    onSuccess: () => cache.invalidateQueries({ queryKey: ['host', s.host] }),
  });
  const about = `${shortHost(s.host)}/${s.name}`;
  const command = certificate
    ? `beacon bind ${shellWord(certificate)} --to ${shellWord(about)}${port ? ` --port ${port}` : ''}${leaveOut.map((n) => ` --leave-out ${shellWord(n)}`).join('')}`
    : `beacon unbind ${shellWord(about)}`;
  if (go.data)
    return (
      <>
        <OrderProgress id={go.data.order} />
        <Group justify="flex-end">
          <Button onClick={close}>Close</Button>
        </Group>
      </>
    );
  const change = plan.data?.plan;
  const missing = unsaid(change?.uncovered, leaveOut);
  const problem = plan.data?.problem;
  return (
    <Stack gap="sm">
      {plan.isPending && (
        <Group gap="xs">
          <Loader size="sm" aria-hidden />{' '}
          <Text size="sm">Asking {shortHost(s.host)} what would change …</Text>
        </Group>
      )}
      {plan.error && <Failure error={plan.error} />}
      {problem && (
        <div role="alert" className="sheet">
          {problem.message} <span className="dim">{problem.cure}</span>
        </div>
      )}
      {change && (
        <PlanView plan={change}>
          <LeaveOut uncovered={change.uncovered ?? []} said={leaveOut} say={setLeaveOut} />
        </PlanView>
      )}
      <CommandLine command={command} />
      {go.error && <Failure error={go.error} />}
      <Group justify="flex-end">
        <Button variant="default" onClick={close}>
          Leave it as it is
        </Button>
        <Button
          disabled={!change || missing.length > 0}
          loading={go.isPending}
          onClick={() => {
            go.mutate();
          }}
        >
          {certificate ? 'Bind' : 'Take it out'}
        </Button>
      </Group>
      {missing.length > 0 && (
        <Text size="xs" c="dimmed" ta="right">
          Say which names are meant to be left out, or take a certificate that has them all.
        </Text>
      )}
      {!change && !plan.isPending && (
        <Text size="xs" c="dimmed" ta="right">
          Nothing can be changed before its agent has said what would change.
        </Text>
      )}
    </Stack>
  );
}
