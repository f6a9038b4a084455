import { useState } from 'react';
import { Group, Loader, NativeSelect, SegmentedControl, Stack, Text, TextInput, Title } from '@mantine/core';
import { useDebouncedValue } from '@mantine/hooks';
import { keepPreviousData, useInfiniteQuery, useQuery } from '@tanstack/react-query';
import { Link, useSearchParams } from 'react-router';
import { api, take, type HostInfo } from '../api/client';
import { CommandLine, Failure } from '../components/Bits';
import { HostState } from '../components/HostState';
import { Invite } from '../components/Invite';
import { More } from '../components/More';
import { NotOffered, Offered } from '../components/Offered';
import { useDenied } from '../components/session';
import { ServiceTable } from '../components/ServiceTable';
import { State } from '../components/State';
import { useNow } from '../components/useNow';
import { when, shortHost } from '../words';
import { Scroll } from '../components/Scroll';

const hostStates = ['connected', 'away', 'invited', 'problem'];
const serviceStates = [
  'needs-a-hand',
  'accepted',
  'not-managed',
  'not-looked-at',
  'plain-only',
  'clear-text',
  'logins-in-the-clear',
  'self-signed',
  'unknown-issuer',
  'intermediate-missing',
  'name-missing',
  'common-name-only',
  'ends-soon',
  'expired',
  'not-yet-valid',
  'revoked',
  'wrong-purpose',
  'weak',
  'malformed',
  'certificate-malformed',
  'out-of-bounds',
  'broken-chain',
  'out-of-order',
  'issuer-expired',
  'issuer-not-yet-valid',
  'issuer-revoked',
  'old-version',
  'staple-missing',
  'staple-unusable',
  'handshake-failed',
  'no-answer',
  'binding-behind',
  'binding-broken',
  'service-problem',
];
/** Where the words differ from those by which they are asked for: as the list itself says them. */
const stateWords: Record<string, string> = {
  'needs-a-hand': 'needing a hand',
  'plain-only': 'not encrypted',
  'self-signed': 'self-signed',
  'common-name-only': 'name only in CN',
  'ends-soon': 'expires soon',
};

/** Hosts with their services, or all services as one list: searched, filtered and sorted by the service, read on as they are scrolled to. */
export function Hosts() {
  const now = useNow();
  const [params, setParams] = useSearchParams();
  const denied = useDenied();
  const view = params.get('view') === 'services' ? 'services' : 'hosts';
  const state = params.get('state') ?? '';
  const sort = params.get('sort') ?? 'name';
  const [search, setSearch] = useState(params.get('search') ?? '');
  const [asked] = useDebouncedValue(search.trim(), 250);
  const set = (change: Record<string, string>) => {
    setParams(
      (old) => {
        for (const [k, v] of Object.entries(change)) {
          if (v) old.set(k, v);
          else old.delete(k);
        }
        return old;
      },
      { replace: true },
    );
  };
  const states = view === 'services' ? serviceStates : hostStates;
  const sorts =
    view === 'services'
      ? { name: 'By name', ends: 'Soonest to expire' }
      : { name: 'By name', seen: 'Seen longest ago' };
  return (
    <Stack gap="md">
      <Group justify="space-between">
        <Title order={2} fz={22}>
          Hosts and services
        </Title>
        <Group gap="xs">
          <SegmentedControl
            size="xs"
            aria-label="View"
            value={view}
            data={[
              { value: 'hosts', label: 'By host' },
              { value: 'services', label: 'Services' },
            ]}
            onChange={(v) => {
              set({ view: v, state: '', sort: '' });
            }}
          />
          <NativeSelect
            size="xs"
            aria-label="State"
            value={state}
            data={[
              { value: '', label: 'Any state' },
              ...states.map((w) => ({ value: w, label: stateWords[w] ?? w.replaceAll('-', ' ') })),
            ]}
            onChange={(e) => {
              set({ state: e.currentTarget.value });
            }}
          />
          <NativeSelect
            size="xs"
            aria-label="Sort by"
            value={sort}
            data={Object.entries(sorts).map(([value, label]) => ({ value, label }))}
            onChange={(e) => {
              set({ sort: e.currentTarget.value });
            }}
          />
          <TextInput
            size="xs"
            w={220}
            aria-label="Find hosts and services"
            placeholder="Part of a name"
            value={search}
            onChange={(e) => {
              setSearch(e.currentTarget.value);
            }}
          />
          <Offered operation="inviteHost" denied={denied}>
            <Invite now={now} />
          </Offered>
        </Group>
      </Group>
      <NotOffered
        denied={denied}
        actions={{ inviteHost: 'invite hosts', bindService: 'bind certificates', look: 'look now' }}
      />
      {view === 'services' ? (
        <ServiceList search={asked} state={state} sort={sort} now={now} />
      ) : (
        <HostList search={asked} state={state} sort={sort} now={now} />
      )}
    </Stack>
  );
}

interface Narrowing {
  search: string;
  state: string;
  sort: string;
  now: number;
}

const narrowed = (n: Narrowing) => n.search !== '' || n.state !== '';

function HostList(n: Narrowing) {
  const list = useInfiniteQuery({
    queryKey: ['hosts', n.search, n.state, n.sort],
    queryFn: ({ pageParam }) =>
      take(
        api.GET('/api/v1/hosts', {
          params: {
            query: { search: n.search, state: n.state, sort: n.sort, take: 20, after: pageParam },
          },
        }),
      ),
    initialPageParam: '',
    getNextPageParam: (last) => last.next ?? undefined,
    placeholderData: keepPreviousData,
  });
  if (list.error && !list.data) return <Failure error={list.error} />;
  if (!list.data) return <Loader aria-label="Loading" />;
  const hosts = list.data.pages.flatMap((p) => p.items);
  return (
    <>
      {hosts.length === 0 && (
        <div className="sheet">
          {narrowed(n)
            ? 'Nothing matches. Search finds parts of the names of hosts and of their services.'
            : 'No host has joined yet. Invite one; its agent finds the services by itself.'}
        </div>
      )}
      {hosts.map((h) => (
        <HostSheet key={h.name} host={h} now={n.now} />
      ))}
      <More
        shown={hosts.length}
        busy={list.isFetchingNextPage}
        more={list.hasNextPage ? () => void list.fetchNextPage() : null}
      />
      <CommandLine
        command={`beacon host list${n.state ? ` --state ${n.state}` : ''}${n.sort === 'seen' ? ' --sort seen' : ''}`}
      />
    </>
  );
}

/** How it is reached, and when it was last heard of. */
function reached(h: HostInfo, now: number): string {
  if (h.device) return `${h.device}, reached by the agent of ${shortHost(h.via ?? '')}`;
  return h.lastSeen
    ? `seen ${when(h.lastSeen, now)} · agent ${h.agentVersion ?? ''}`
    : 'its agent has not joined yet';
}

function HostSheet({ host: h, now }: { host: HostInfo; now: number }) {
  const detail = useQuery({
    queryKey: ['host', h.name],
    queryFn: () => take(api.GET('/api/v1/hosts/{name}', { params: { path: { name: h.name } } })),
    enabled: h.services > 0,
  });
  const isAwaited = !h.device && h.services > 0 && !detail.data;
  return (
    <Scroll className="sheet" label={h.name}>
      <Group justify="space-between" mb={4}>
        <Group gap="md">
          <Link to={`/hosts/${h.name}`} className="name">
            {h.name}
          </Link>
          <HostState host={h} />
        </Group>
        <Text size="xs" c="dimmed">
          {reached(h, now)}
        </Text>
      </Group>
      {h.problem && (
        <div role="status">
          <State severity="now" word={h.problem.message} /> <span className="dim">{h.problem.cure}</span>
        </div>
      )}
      {h.device && (
        <Text size="sm">
          It makes its own key and puts its certificate in place by itself.{' '}
          <Link to={`/new?host=${encodeURIComponent(h.name)}`}>Request one for it.</Link>
        </Text>
      )}
      {isAwaited && <Loader size="sm" aria-label="Loading" />}
      {!h.device && !isAwaited && <ServiceTable services={detail.data?.services ?? []} now={now} />}
    </Scroll>
  );
}

function ServiceList(n: Narrowing) {
  const list = useInfiniteQuery({
    queryKey: ['services', n.search, n.state, n.sort],
    queryFn: ({ pageParam }) =>
      take(
        api.GET('/api/v1/services', {
          params: {
            query: { search: n.search, state: n.state, sort: n.sort, take: 50, after: pageParam },
          },
        }),
      ),
    initialPageParam: '',
    getNextPageParam: (last) => last.next ?? undefined,
    placeholderData: keepPreviousData,
  });
  if (list.error && !list.data) return <Failure error={list.error} />;
  if (!list.data) return <Loader aria-label="Loading" />;
  const services = list.data.pages.flatMap((p) => p.items);
  return (
    <>
      <Scroll className="sheet" label="Services">
        {services.length === 0 && narrowed(n) ? (
          <Text size="sm">Nothing matches.</Text>
        ) : (
          <ServiceTable services={services} now={n.now} withHost />
        )}
      </Scroll>
      <More
        shown={services.length}
        busy={list.isFetchingNextPage}
        more={list.hasNextPage ? () => void list.fetchNextPage() : null}
      />
      <CommandLine
        command={`beacon service list${n.state ? ` --state ${n.state}` : ''}${n.sort === 'ends' ? ' --sort ends' : ''}`}
      />
    </>
  );
}
