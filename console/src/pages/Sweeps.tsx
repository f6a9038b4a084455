import { useState } from 'react';
import { Button, Group, Loader, Stack, Text, TextInput, Title } from '@mantine/core';
import { useInfiniteQuery, useMutation, useQueryClient } from '@tanstack/react-query';
import { Link, useNavigate } from 'react-router';
import { api, take, type SweepInfo } from '../api/client';
import { CommandLine, Failure } from '../components/Bits';
import { HostPick } from '../components/HostPick';
import { More } from '../components/More';
import { Offered } from '../components/Offered';
import { useDenied } from '../components/session';
import { SweepState } from '../components/SweepState';
import { useNow } from '../components/useNow';
import { useOnceKey } from '../components/useOnceKey';
import { shellWord, shortHost, when } from '../words';
import { Scroll } from '../components/Scroll';

/** Looks over whole networks: what serves a certificate there that nobody looks after? */
export function Sweeps() {
  const now = useNow();
  const denied = useDenied();
  const { data, error, fetchNextPage, hasNextPage, isFetchingNextPage } = useInfiniteQuery({
    queryKey: ['sweeps'],
    queryFn: ({ pageParam }) =>
      take(api.GET('/api/v1/sweeps', { params: { query: pageParam ? { after: pageParam } : {} } })),
    initialPageParam: '',
    getNextPageParam: (last) => last.next ?? undefined,
  });
  const rows = data?.pages.flatMap((p) => p.items) ?? [];
  if (error && !data) return <Failure error={error} />;
  return (
    <Stack gap="md">
      <Title order={2} fz={22}>
        Sweeps
      </Title>
      <Offered operation="startSweep" denied={denied}>
        <Start />
      </Offered>
      {!data ? (
        <Loader aria-label="Loading" />
      ) : (
        <Scroll className="sheet">
          <table className="rows">
            <thead>
              <tr>
                <th scope="col">Sweep</th>
                <th scope="col">State</th>
                <th scope="col">Networks</th>
                <th scope="col">From</th>
                <th scope="col">Tried</th>
                <th scope="col">Serve a certificate</th>
                <th scope="col">Nobody looks after</th>
                <th scope="col">Started</th>
              </tr>
            </thead>
            <tbody>
              {rows.map((s) => (
                <tr key={s.number}>
                  <td>
                    <Link to={`/sweeps/${s.number}`}>{s.number}</Link>
                  </td>
                  <td>
                    <SweepState sweep={s} />
                  </td>
                  <td className="mono">{s.networks.join(', ')}</td>
                  <td>{shortHost(s.from)}</td>
                  <td className="nowrap">{tried(s)}</td>
                  <td>{s.serving}</td>
                  <td>{s.unmanaged}</td>
                  <td className="nowrap">{when(s.at, now)}</td>
                </tr>
              ))}
              {rows.length === 0 && (
                <tr>
                  <td colSpan={8}>Nothing was looked over yet.</td>
                </tr>
              )}
            </tbody>
          </table>
          <More
            shown={rows.length}
            busy={isFetchingNextPage}
            more={hasNextPage ? () => void fetchNextPage() : null}
          />
        </Scroll>
      )}
      <CommandLine command="beacon sweep list" />
    </Stack>
  );
}

const tried = (s: SweepInfo) => `${s.tried} of ${s.total}`;

const words = (text: string) => text.split(/[\s,]+/).filter(Boolean);

function Start() {
  const [networks, setNetworks] = useState('');
  const [ports, setPorts] = useState('');
  const [from, setFrom] = useState('');
  const navigate = useNavigate();
  const cache = useQueryClient();
  const wish = { networks: words(networks), ports: words(ports).map(Number), from: from || null };
  const onceKey = useOnceKey(JSON.stringify(wish));
  const go = useMutation({
    mutationFn: () =>
      take(api.POST('/api/v1/sweeps', { body: wish, headers: { 'Idempotency-Key': onceKey() } })),
    onSuccess: async (s) => {
      await cache.invalidateQueries({ queryKey: ['sweeps'] });
      await navigate(`/sweeps/${s.number}`);
    },
  });
  const odd = words(ports).find((p) => !/^\d{1,5}$/.test(p));
  const command = [
    'beacon sweep start',
    ...(wish.networks.length > 0 ? wish.networks.map(shellWord) : ['NETWORK']),
    ...words(ports).map((p) => `--port ${shellWord(p)}`),
    from && `--from ${shellWord(shortHost(from))}`,
  ]
    .filter(Boolean)
    .join(' ');
  return (
    <form
      className="sheet"
      onSubmit={(e) => {
        e.preventDefault();
        go.mutate();
      }}
    >
      <Group align="flex-end" gap="sm">
        <TextInput
          label="Networks"
          description="Addresses and ranges that the administrator permitted"
          placeholder="10.20.0.0/24"
          w={280}
          required
          value={networks}
          onChange={(e) => {
            setNetworks(e.currentTarget.value);
          }}
        />
        <TextInput
          label="Ports"
          description="Empty: the usual ones"
          placeholder="443 8443"
          w={200}
          value={ports}
          error={odd ? `${odd} is no port` : undefined}
          onChange={(e) => {
            setPorts(e.currentTarget.value);
          }}
        />
        <HostPick
          label="From"
          description="Whose agent looks"
          none="any host"
          width={260}
          value={from}
          onChange={setFrom}
        />
        <Button
          type="submit"
          loading={go.isPending}
          disabled={wish.networks.length === 0 || odd !== undefined}
        >
          Look over
        </Button>
      </Group>
      {go.error && <Failure error={go.error} />}
      <Text size="xs" c="dimmed" mt="xs">
        Gently: 32 endpoints at a time. It can be stopped, and it sends nothing but the beginning of a TLS
        connection.
      </Text>
      <CommandLine command={command} />
    </form>
  );
}
