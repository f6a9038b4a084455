import { useState } from 'react';
import { Button, Group, Loader, NativeSelect, Stack, Text, TextInput, Title } from '@mantine/core';
import { useDebouncedValue } from '@mantine/hooks';
import { keepPreviousData, useInfiniteQuery, useMutation } from '@tanstack/react-query';
import { Link, useSearchParams } from 'react-router';
import { api, take, type WhyAnswer } from '../api/client';
import { CommandLine, Failure } from '../components/Bits';
import { HostPick } from '../components/HostPick';
import { More } from '../components/More';
import { Offered } from '../components/Offered';
import { useDenied } from '../components/session';
import { State } from '../components/State';
import { useNow } from '../components/useNow';
import { commonName, counted, shellWord, shortHost, when } from '../words';
import { Scroll } from '../components/Scroll';

const filters = [
  { value: '', label: 'all anchors' },
  { value: 'ours', label: 'ours' },
  { value: 'used', label: 'a service’s chain ends there' },
  { value: 'distrusted', label: 'distrusted by a store' },
];

/** Who trusts what: each anchor with the stores that trust, lack and distrust it, and the services that stand on it. */
export function Trust() {
  const now = useNow();
  const denied = useDenied();
  const [params, setParams] = useSearchParams();
  const set = (key: string, value: string) => {
    setParams(
      (old) => {
        if (value) old.set(key, value);
        else old.delete(key);
        return old;
      },
      { replace: true },
    );
  };
  const [search] = useDebouncedValue((params.get('search') ?? '').trim(), 250);
  const which = params.get('which') ?? '';
  const query = { ...(search ? { search } : {}), ...(which ? { which } : {}), take: 100 };
  const { data, error, fetchNextPage, hasNextPage, isFetchingNextPage } = useInfiniteQuery({
    queryKey: ['anchors', query],
    queryFn: ({ pageParam }) =>
      take(
        api.GET('/api/v1/trust/anchors', {
          params: { query: { ...query, ...(pageParam ? { after: pageParam } : {}) } },
        }),
      ),
    initialPageParam: '',
    getNextPageParam: (last) => last.next ?? undefined,
    placeholderData: keepPreviousData,
  });
  const rows = data?.pages.flatMap((p) => p.items) ?? [];
  if (error && !data) return <Failure error={error} />;
  return (
    <Stack gap="md">
      <Title order={2} fz={22}>
        Trust
      </Title>
      <Offered operation="askWhy" denied={denied}>
        <Why />
      </Offered>
      <Scroll className="sheet">
        <Group justify="space-between" mb="xs">
          <NativeSelect
            size="xs"
            aria-label="Which anchors"
            data={filters}
            value={which}
            onChange={(e) => {
              set('which', e.currentTarget.value);
            }}
          />
          <TextInput
            size="xs"
            w={260}
            aria-label="Find an anchor"
            placeholder="Name or fingerprint"
            value={params.get('search') ?? ''}
            onChange={(e) => {
              set('search', e.currentTarget.value);
            }}
          />
        </Group>
        {!data ? (
          <Loader aria-label="Loading" />
        ) : (
          <table className="rows">
            <thead>
              <tr>
                <th scope="col">Anchor</th>
                <th scope="col">Trusted by</th>
                <th scope="col">Lacked by</th>
                <th scope="col">Distrusted by</th>
                <th scope="col">Services</th>
                <th scope="col">Expires</th>
                <th scope="col">Fingerprint</th>
              </tr>
            </thead>
            <tbody>
              {rows.map((a) => (
                <tr key={a.thumbprint}>
                  <td title={a.subject}>
                    <Link to={`/trust/${a.thumbprint}`}>{commonName(a.subject)}</Link>
                    {a.ours && ' (ours)'}
                  </td>
                  <td className="nowrap">{stores(a.trustedBy)}</td>
                  <td className="nowrap">
                    {a.ours && a.lackedBy > 0 ? (
                      <State severity="soon" word={stores(a.lackedBy)} />
                    ) : (
                      stores(a.lackedBy)
                    )}
                  </td>
                  <td className="nowrap">{stores(a.distrustedBy)}</td>
                  <td>{a.services === 0 ? '–' : a.services}</td>
                  <td className="nowrap">{when(a.notAfter, now)}</td>
                  <td className="mono dim">{a.thumbprint.slice(0, 16)}</td>
                </tr>
              ))}
              {rows.length === 0 && (
                <tr>
                  <td colSpan={7}>
                    {search || which ? 'Nothing matches.' : 'No agent has told of a trust store yet.'}
                  </td>
                </tr>
              )}
            </tbody>
          </table>
        )}
        <More
          shown={rows.length}
          busy={isFetchingNextPage}
          more={hasNextPage ? () => void fetchNextPage() : null}
        />
      </Scroll>
      <CommandLine command={`beacon trust anchors${which ? ` --which ${which}` : ''}`} />
    </Stack>
  );
}

const stores = (count: number) => counted(count, '–', '1 store', 'stores');

/** Why does a client refuse a server? */
function Why() {
  const [host, setHost] = useState('');
  const [address, setAddress] = useState('');
  const ask = useMutation({
    mutationFn: () =>
      take(
        api.POST('/api/v1/trust/why', {
          body: { host, address: address.trim(), serverName: null, protocol: null, store: null },
        }),
      ),
  });
  return (
    <form
      className="sheet"
      onSubmit={(e) => {
        e.preventDefault();
        ask.mutate();
      }}
    >
      <Group align="flex-end" gap="sm">
        <HostPick
          label="Why does a client on"
          none="choose a host, or type part of its name"
          width={300}
          value={host}
          onChange={setHost}
        />
        <TextInput
          label="refuse"
          placeholder="NAME, NAME:PORT or ADDRESS:PORT"
          w={340}
          value={address}
          onChange={(e) => {
            setAddress(e.currentTarget.value);
          }}
        />
        <Button type="submit" loading={ask.isPending} disabled={!host || !address.trim()}>
          Ask
        </Button>
      </Group>
      {ask.error && <Failure error={ask.error} />}
      {ask.data && <Answer answer={ask.data} />}
      {host && address.trim() && (
        <CommandLine command={`beacon trust why ${shortHost(host)} ${shellWord(address.trim())}`} />
      )}
    </form>
  );
}

function Answer({ answer }: { answer: WhyAnswer }) {
  const l = answer.look;
  return (
    <div role="status">
      <Text size="sm" mt="xs">
        {l.serverName} at {l.address}:{l.port}
        {l.served && `: ${commonName(l.served.subject)}, issued by ${commonName(l.served.issuer)}`}
      </Text>
      {l.served ? (
        <ul style={{ margin: 0, paddingLeft: 0, listStyle: 'none' }}>
          {answer.verdicts.map((v) => (
            <li key={v.store.id}>
              <State
                severity={v.accepted ? 'fine' : 'failed'}
                word={v.accepted ? 'accepts it' : 'refuses it'}
              />
              : {v.store.reader} <span className="mono dim">{v.store.path}</span>
              {v.cause && (
                <Text size="sm" pl={20}>
                  {v.cause} <span className="dim">{v.cure}</span>{' '}
                  {v.anchor && <Link to={`/trust/${v.anchor}`}>See who trusts it</Link>}
                </Text>
              )}
            </li>
          ))}
        </ul>
      ) : (
        l.problems.map((p) => (
          <Text size="sm" key={p.reason}>
            {p.reason} <span className="dim">{p.cure}</span>
          </Text>
        ))
      )}
    </div>
  );
}
