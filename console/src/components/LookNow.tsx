import { Button, Group, Loader, Modal, SegmentedControl, Stack, Text } from '@mantine/core';
import { useQuery } from '@tanstack/react-query';
import { useState } from 'react';
import { api, take, type ServiceInfo } from '../api/client';
import { shellWord, shortHost } from '../words';
import { CommandLine, Failure } from './Bits';
import { Looks } from './Looks';
import { isDenied, useDenied } from './session';
import { useNow } from './useNow';

/** Has the service's host, or Orderly Beacon itself, look at it this moment, as a client of the given name. */
export function LookNow({ service: s, close }: { service: ServiceInfo; close: () => void }) {
  const now = useNow();
  const door = s.endpoints.find((e) => e.tls) ?? s.endpoints[0];
  const name = s.names.find((n) => !n.startsWith('*')) ?? s.name;
  const address = door ? `${door.address}:${door.port}` : name;
  const canLookItself = !isDenied('lookFromService', useDenied());
  const [from, setFrom] = useState<'host' | 'service'>('host');
  const who = from === 'host' ? shortHost(s.host) : 'the service itself';
  const look = useQuery({
    queryKey: ['look-now', s.host, s.name, from],
    queryFn: () =>
      take(
        from === 'host'
          ? api.POST('/api/v1/looks', {
              body: { address, serverName: name, from: s.host, protocol: door?.protocol ?? null },
            })
          : api.POST('/api/v1/looks/from-service', {
              body: { address, serverName: name, from: null, protocol: door?.protocol ?? null },
            }),
      ),
    retry: false,
    staleTime: 0,
    gcTime: 0,
    refetchOnWindowFocus: false,
  });
  return (
    <Modal
      opened
      onClose={close}
      title={`${shortHost(s.host)}/${s.name} as its clients see it now`}
      size="lg"
      centered
      closeButtonProps={{ 'aria-label': 'Close' }}
    >
      <Stack gap="sm">
        {canLookItself && (
          <SegmentedControl
            aria-label="Seen from"
            size="xs"
            value={from}
            onChange={(v) => {
              setFrom(v);
            }}
            data={[
              { value: 'host', label: `seen from ${shortHost(s.host)}` },
              { value: 'service', label: 'seen from the service itself' },
            ]}
          />
        )}
        {look.isFetching && (
          <Group gap="xs" role="status">
            <Loader size="sm" aria-hidden />
            <Text size="sm">{who} looks …</Text>
          </Group>
        )}
        {look.error && <Failure error={look.error} />}
        {look.data && (
          <>
            <Looks looks={[look.data]} now={now} />
            {look.data.chainSteps.length > 0 && (
              <ol style={{ margin: 0, paddingLeft: 20, fontSize: 13 }} aria-label="Chain">
                {look.data.chainSteps.map((step) => (
                  <li key={step}>{step}</li>
                ))}
              </ol>
            )}
          </>
        )}
        <CommandLine
          command={`beacon look ${shellWord(address)} --name ${shellWord(name)} ${from === 'host' ? `--from ${shortHost(s.host)}` : '--from-service'}`}
        />
        <Group justify="flex-end">
          <Button variant="default" loading={look.isFetching} onClick={() => void look.refetch()}>
            Look again
          </Button>
          <Button onClick={close}>Close</Button>
        </Group>
      </Stack>
    </Modal>
  );
}
