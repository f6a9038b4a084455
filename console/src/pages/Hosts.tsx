import { useState } from 'react';
import {
  Button,
  Group,
  Loader,
  Modal,
  NativeSelect,
  SegmentedControl,
  Stack,
  Text,
  TextInput,
  Title,
} from '@mantine/core';
import { useDebouncedValue, useDisclosure } from '@mantine/hooks';
import {
  keepPreviousData,
  useInfiniteQuery,
  useMutation,
  useQuery,
  useQueryClient,
} from '@tanstack/react-query';
import { Link, useSearchParams } from 'react-router';
import { api, take, type HostInfo, type ServiceInfo } from '../api/client';
import { BindDialog, type Binding } from '../components/BindDialog';
import { CommandLine, Failure } from '../components/Bits';
import { LookNow } from '../components/LookNow';
import { NotOffered, Offered } from '../components/Offered';
import { isDenied, useDenied } from '../components/session';
import { More } from '../components/More';
import { State } from '../components/State';
import { useNow } from '../components/useNow';
import { shortHost, when } from '../words';

export function HostState({ host }: { host: HostInfo }) {
  if (host.state === 'invited') return <State severity="soon" word="invited" />;
  if (host.problem) return <State severity="now" word="problem" />;
  return host.online ? <State severity="fine" word="connected" /> : <State severity="now" word="away" />;
}

const hostStates = ['connected', 'away', 'invited', 'problem'];
const serviceStates = [
  'needs-a-hand',
  'accepted',
  'not-managed',
  'plain-only',
  'self-signed',
  'unknown-issuer',
  'name-missing',
  'common-name-only',
  'ends-soon',
  'expired',
  'revoked',
  'binding-behind',
  'binding-broken',
  'no-answer',
];

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
      ? { name: 'By name', ends: 'Soonest to end' }
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
              ...states.map((w) => ({ value: w, label: w.replaceAll('-', ' ') })),
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

function HostSheet({ host: h, now }: { host: HostInfo; now: number }) {
  const detail = useQuery({
    queryKey: ['host', h.name],
    queryFn: () => take(api.GET('/api/v1/hosts/{name}', { params: { path: { name: h.name } } })),
    enabled: h.services > 0,
  });
  return (
    <section className="sheet scroll" aria-label={h.name}>
      <Group justify="space-between" mb={4}>
        <Group gap="md">
          <Link to={`/hosts/${h.name}`} className="name">
            {h.name}
          </Link>
          <HostState host={h} />
        </Group>
        <Text size="xs" c="dimmed">
          {h.lastSeen
            ? `seen ${when(h.lastSeen, now)} · agent ${h.agentVersion ?? ''}`
            : 'its agent has not joined yet'}
        </Text>
      </Group>
      {h.problem && (
        <div role="status">
          <State severity="now" word={h.problem.message} /> <span className="dim">{h.problem.cure}</span>
        </div>
      )}
      {h.services > 0 && !detail.data ? (
        <Loader size="sm" aria-label="Loading" />
      ) : (
        <ServiceTable services={detail.data?.services ?? []} now={now} />
      )}
    </section>
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
      <section className="sheet scroll" aria-label="Services">
        {services.length === 0 && narrowed(n) ? (
          <Text size="sm">Nothing matches.</Text>
        ) : (
          <ServiceTable services={services} now={n.now} withHost />
        )}
      </section>
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

export function ServiceTable({
  services,
  now,
  withHost = false,
}: {
  services: ServiceInfo[];
  now: number;
  withHost?: boolean;
}) {
  const [binding, setBinding] = useState<Binding | null>(null);
  const [looking, setLooking] = useState<ServiceInfo | null>(null);
  const denied = useDenied();
  if (services.length === 0) return <Text size="sm">No service was found there yet.</Text>;
  return (
    <>
      {binding && (
        <BindDialog
          binding={binding}
          close={() => {
            setBinding(null);
          }}
        />
      )}
      {looking && (
        <LookNow
          service={looking}
          close={() => {
            setLooking(null);
          }}
        />
      )}
      <table className="rows">
        <thead>
          <tr>
            <th scope="col">Service</th>
            <th scope="col">State</th>
            <th scope="col">Endpoints</th>
            <th scope="col">Certificate</th>
            <th scope="col">Ends</th>
          </tr>
        </thead>
        <tbody>
          {services.map((s) => (
            <tr key={`${s.host}/${s.name}`}>
              <td>
                <span className="name">{withHost ? `${shortHost(s.host)}/${s.name}` : s.name}</span>
                <div className="dim">{called(s)}</div>
              </td>
              <td>
                <State severity={s.severity} word={s.state} />
                {s.look?.problems[0] && <div className="dim">{s.look.problems[0].reason}</div>}
              </td>
              <td className="nowrap">
                {s.endpoints.map((e) => (
                  <div key={`${e.address}:${e.port}`}>
                    {e.address}:{e.port} <span className="dim">{wayIn(e)}</span>
                  </div>
                ))}
              </td>
              <td>
                {s.binding ? (
                  <Link to={`/certificates/${encodeURIComponent(s.binding.certificate)}`}>
                    {s.binding.certificate}
                  </Link>
                ) : (
                  <>
                    {s.look?.served ? 'not managed' : 'none'}
                    <Offered operation="bindService" denied={s.denied}>
                      {': '}
                      <Link to={`/new?host=${s.host}&service=${encodeURIComponent(s.name)}`}>
                        request one
                      </Link>
                    </Offered>
                  </>
                )}
                <Group gap={4} mt={2}>
                  <Offered operation="look" denied={denied}>
                    <Button
                      size="compact-xs"
                      variant="default"
                      aria-label={`Look now: ${s.name}`}
                      onClick={() => {
                        setLooking(s);
                      }}
                    >
                      Look now
                    </Button>
                  </Offered>
                  <Offered operation="bindService" denied={s.denied}>
                    <Button
                      size="compact-xs"
                      variant="default"
                      aria-label={`Bind a certificate to ${s.name}`}
                      onClick={() => {
                        setBinding({ service: s, takeOut: false });
                      }}
                    >
                      Bind
                    </Button>
                    {s.binding && (
                      <Button
                        size="compact-xs"
                        variant="default"
                        aria-label={`Take out the certificate of ${s.name}`}
                        onClick={() => {
                          setBinding({ service: s, takeOut: true });
                        }}
                      >
                        Take out
                      </Button>
                    )}
                  </Offered>
                  {!isDenied('bindService', denied) && <NotYours service={s} />}
                </Group>
              </td>
              <td className="nowrap">{when(s.look?.served?.notAfter, now)}</td>
            </tr>
          ))}
        </tbody>
      </table>
    </>
  );
}

/** Whose the host is, where it is somebody else's. */
function NotYours({ service }: { service: ServiceInfo }) {
  const why = service.denied?.find((d) => d.operations.includes('bindService'));
  return why ? (
    <span className="dim" role="note" title={why.cure}>
      {why.reason}
    </span>
  ) : null;
}

/** Its kind, and what else clients call it. */
function called(s: ServiceInfo): string {
  const others = s.names.filter((n) => n !== s.name).join(', ');
  if (s.name.startsWith(s.connector)) return `called ${others}`;
  return others ? `${s.connector} · ${others}` : s.connector;
}

const ways: Record<string, string> = {
  tls: 'TLS',
  smtp: 'SMTP, STARTTLS',
  imap: 'IMAP, STARTTLS',
  pop3: 'POP3, STLS',
  postgresql: 'PostgreSQL, TLS',
};

/** How clients come to TLS at an endpoint, and whether they can do without. */
function wayIn(e: ServiceInfo['endpoints'][number]): string {
  if (!e.tls) return 'plain';
  const way = ways[e.protocol ?? 'tls'] ?? 'TLS';
  return e.clearText ? `${way} or clear text` : way;
}

function Invite({ now }: { now: number }) {
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
