import { Button, Group, Loader, NativeSelect, Stack, TextInput, Title } from '@mantine/core';
import { useDebouncedValue, useDisclosure } from '@mantine/hooks';
import { keepPreviousData, useInfiniteQuery, useQuery } from '@tanstack/react-query';
import { Link, useSearchParams } from 'react-router';
import { api, take, type CertificateInfo } from '../api/client';
import { CommandLine, Failure } from '../components/Bits';
import { LifeRing } from '../components/LifeRing';
import { More } from '../components/More';
import { NotOffered, Offered } from '../components/Offered';
import { useDenied } from '../components/session';
import { RevokeSeveral } from '../components/RevokeSeveral';
import { State } from '../components/State';
import { useNow } from '../components/useNow';
import { shellWord, shortHost, when } from '../words';
import { Scroll } from '../components/Scroll';

/** Heads with the word that the service sorts by; the host is in no order of its own. */
const columns: [string, string | null][] = [
  ['Certificate', 'name'],
  ['State', 'severity'],
  ['Host', null],
  ['Renewal', 'renewal'],
  ['Expires', 'ends'],
];
const states = [
  'needs-a-hand',
  'renewal-failed',
  'stuck',
  'on-hold',
  'revoked',
  'expired',
  'expires-soon',
  'not-issued-yet',
  'records-to-add',
  'records-to-remove',
  'claimed-elsewhere',
  'serving',
  'in-store',
  'handed-out',
  'automatic',
  'by-hand',
];
const stateWords: Record<string, string> = {
  'needs-a-hand': 'needing a hand',
  automatic: 'renewed by themselves',
  'by-hand': 'not renewed by us',
};

/** All certificates: searched, filtered and sorted by the service, read on as they are scrolled to. */
export function Certificates() {
  const now = useNow();
  const denied = useDenied();
  const [params, setParams] = useSearchParams();
  const search = params.get('search') ?? '';
  const [asked] = useDebouncedValue(search.trim(), 250);
  const filter = (key: string) => params.get(key) ?? '';
  const sort = params.get('sort') ?? 'severity';
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
  const [revoking, several] = useDisclosure();
  const profiles = useQuery({ queryKey: ['profiles'], queryFn: () => take(api.GET('/api/v1/profiles')) });
  const query = {
    search: asked,
    state: filter('state'),
    profile: filter('profile'),
    host: filter('host'),
    sort,
  };
  const { data, error, fetchNextPage, hasNextPage, isFetchingNextPage } = useInfiniteQuery({
    queryKey: ['certificates', query],
    queryFn: ({ pageParam }) =>
      take(api.GET('/api/v1/certificates', { params: { query: { ...query, after: pageParam, take: 100 } } })),
    initialPageParam: '',
    getNextPageParam: (last) => last.next ?? undefined,
    placeholderData: keepPreviousData,
  });
  const rows = data?.pages.flatMap((p) => p.items) ?? [];
  const narrowed = [asked, query.state, query.profile, query.host].some(Boolean);
  const command = [
    'beacon cert list',
    asked && shellWord(asked),
    query.state && `--state ${query.state}`,
    query.profile && `--profile ${shellWord(query.profile)}`,
    query.host && `--host ${shellWord(query.host)}`,
    sort !== 'name' && `--sort ${sort}`,
  ]
    .filter(Boolean)
    .join(' ');
  if (error && !data) return <Failure error={error} />;
  // The worst come first, names and ends in their order.
  const [direction, arrow] =
    sort === 'severity' ? (['descending', ' ↓'] as const) : (['ascending', ' ↑'] as const);
  return (
    <Stack gap="md">
      <Group justify="space-between">
        <Title order={2} fz={22}>
          Certificates
        </Title>
        <Group gap="xs">
          <NativeSelect
            size="xs"
            aria-label="State"
            value={filter('state')}
            data={[
              { value: '', label: 'Any state' },
              ...states.map((w) => ({ value: w, label: stateWords[w] ?? w.replaceAll('-', ' ') })),
            ]}
            onChange={(e) => {
              set('state', e.currentTarget.value);
            }}
          />
          <NativeSelect
            size="xs"
            aria-label="Profile"
            value={filter('profile')}
            data={[
              { value: '', label: 'Any profile' },
              ...(profiles.data ?? []).map((p) => ({ value: p.id, label: p.id })),
            ]}
            onChange={(e) => {
              set('profile', e.currentTarget.value);
            }}
          />
          <TextInput
            size="xs"
            w={240}
            aria-label="Find certificates"
            placeholder="Name, serial or SHA-256 fingerprint"
            value={search}
            onChange={(e) => {
              set('search', e.currentTarget.value);
            }}
          />
          <Offered operation="revokeMany" denied={denied}>
            <Button size="xs" variant="default" onClick={several.open}>
              Revoke several …
            </Button>
          </Offered>
          <Offered operation="submitRequest" denied={denied}>
            <Button component={Link} to="/new" size="xs">
              New certificate
            </Button>
          </Offered>
        </Group>
      </Group>
      <NotOffered denied={denied} actions={{ submitRequest: 'request certificates' }} />
      {revoking && <RevokeSeveral close={several.close} />}
      {!data && <Loader aria-label="Loading" />}
      {data && rows.length === 0 && (
        <div className="sheet">
          {narrowed
            ? 'Nothing matches. Search finds names, serials and SHA-256 fingerprints.'
            : 'There is no certificate yet. Request the first one.'}
        </div>
      )}
      {rows.length > 0 && (
        <Scroll as="div" className="sheet">
          <table className="rows" aria-label="Certificates">
            <thead>
              <tr>
                {columns.map(([head, by]) => (
                  <th key={head} scope="col" aria-sort={by && sort === by ? direction : 'none'}>
                    {by ? (
                      <button
                        type="button"
                        onClick={() => {
                          set('sort', by);
                        }}
                      >
                        {head}
                        {sort === by ? arrow : ''}
                      </button>
                    ) : (
                      head
                    )}
                  </th>
                ))}
              </tr>
            </thead>
            <tbody>
              {rows.map((c) => (
                <Row key={c.name} certificate={c} now={now} />
              ))}
            </tbody>
          </table>
        </Scroll>
      )}
      {rows.length > 0 && (
        <More
          shown={rows.length}
          busy={isFetchingNextPage}
          more={hasNextPage ? () => void fetchNextPage() : null}
        />
      )}
      <CommandLine command={command} />
    </Stack>
  );
}

function Row({ certificate: c, now }: { certificate: CertificateInfo; now: number }) {
  return (
    <tr>
      <td>
        <Link to={`/certificates/${encodeURIComponent(c.name)}`} className="name">
          {c.name}
        </Link>
        {c.names.length > 1 && <div className="dim">{c.names.filter((n) => n !== c.name).join(', ')}</div>}
      </td>
      <td>
        <State severity={c.severity} word={c.state} />
        {c.lastError && <div className="dim">{c.lastError}</div>}
      </td>
      <td className="nowrap">
        {c.host ? (
          shortHost(c.host)
        ) : (
          <span className="dim">
            {c.name.endsWith('@system') ? 'the service itself' : 'none: key kept elsewhere'}
          </span>
        )}
      </td>
      <td className="nowrap">{c.planned ? when(c.planned, now) : <span className="dim">by hand</span>}</td>
      <td>
        {c.notAfter && c.notBefore ? (
          <Group gap={8} wrap="nowrap">
            <LifeRing
              notBefore={c.notBefore}
              notAfter={c.notAfter}
              planned={c.planned}
              severity={c.severity}
              now={now}
            />
            <span className="nowrap">{when(c.notAfter, now)}</span>
          </Group>
        ) : (
          '–'
        )}
      </td>
    </tr>
  );
}
