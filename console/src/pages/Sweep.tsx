import { Button, Checkbox, Group, Loader, Progress, Stack, Text, TextInput, Title } from '@mantine/core';
import { useDebouncedValue } from '@mantine/hooks';
import {
  keepPreviousData,
  useInfiniteQuery,
  useMutation,
  useQuery,
  useQueryClient,
} from '@tanstack/react-query';
import { Link, useParams, useSearchParams } from 'react-router';
import { api, take, type SweepFinding } from '../api/client';
import { CommandLine, Failure } from '../components/Bits';
import { More } from '../components/More';
import { Offered } from '../components/Offered';
import { useDenied } from '../components/session';
import { State } from '../components/State';
import { SweepState } from '../components/SweepState';
import { useNow } from '../components/useNow';
import { commonName, shortHost, when } from '../words';
import { Scroll } from '../components/Scroll';

/** One look over networks: how far it is, whose certificates nobody looks after, and how each is taken over. */
export function Sweep() {
  const number = Number(useParams().number);
  const now = useNow();
  const denied = useDenied();
  const cache = useQueryClient();
  const { data, error } = useQuery({
    queryKey: ['sweep', number],
    queryFn: () => take(api.GET('/api/v1/sweeps/{number}', { params: { path: { number } } })),
    refetchInterval: (q) => (q.state.data?.sweep.state === 'running' ? 1000 : false),
  });
  const stop = useMutation({
    mutationFn: () => take(api.POST('/api/v1/sweeps/{number}/stop', { params: { path: { number } } })),
    onSuccess: () => cache.invalidateQueries({ queryKey: ['sweep', number] }),
  });
  if (error && !data) return <Failure error={error} />;
  if (!data) return <Loader aria-label="Loading" />;
  const s = data.sweep;
  return (
    <Stack gap="md">
      <Group justify="space-between">
        <Title order={2} fz={22}>
          Sweep {s.number} <SweepState sweep={s} />
        </Title>
        {s.state === 'running' && (
          <Offered operation="stopSweep" denied={denied}>
            <Button
              size="xs"
              variant="default"
              loading={stop.isPending}
              onClick={() => {
                stop.mutate();
              }}
            >
              Stop
            </Button>
          </Offered>
        )}
      </Group>
      <section className="sheet">
        <Text size="sm">
          <span className="mono">{s.networks.join(', ')}</span> at{' '}
          {s.ports.length === 1 ? `port ${s.ports[0]}` : `${s.ports.length} ports`}, seen from{' '}
          {shortHost(s.from)}; started by {s.by}, {when(s.at, now)}.
        </Text>
        {s.state === 'running' && (
          <Progress
            my="xs"
            value={(100 * s.tried) / Math.max(1, s.total)}
            aria-label={`${s.tried} of ${s.total} endpoints tried`}
          />
        )}
        <Text size="sm">
          {s.tried} of {s.total} endpoints tried, {s.answering} answer, {s.serving} serve a certificate; of
          these nobody looks after <b>{s.unmanaged}</b>.
        </Text>
        {s.problem && (
          <div role="alert">
            ◆ {s.problem.message} <span className="dim">{s.problem.cure}</span>
          </div>
        )}
        {stop.error && <Failure error={stop.error} />}
      </section>
      {data.groups.length > 0 && (
        <section className="sheet">
          <Title order={3} fz={16}>
            What nobody looks after, by issuer
          </Title>
          <ul style={{ margin: 0, paddingLeft: 18 }}>
            {data.groups.map((g) => (
              <li key={g.issuer} title={g.issuer}>
                {g.count} of {commonName(g.issuer)}, the first expires {when(g.firstEnd, now)}
              </li>
            ))}
          </ul>
        </section>
      )}
      <Findings number={number} now={now} tried={s.tried} />
    </Stack>
  );
}

function Findings({ number, now, tried }: { number: number; now: number; tried: number }) {
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
  const everything = params.get('all') === 'yes';
  const query = { search, ...(everything ? {} : { managed: false, sort: 'ends' }), take: 100 };
  const { data, error, fetchNextPage, hasNextPage, isFetchingNextPage } = useInfiniteQuery({
    queryKey: ['sweep', number, 'findings', query, tried],
    queryFn: ({ pageParam }) =>
      take(
        api.GET('/api/v1/sweeps/{number}/findings', {
          params: { path: { number }, query: { ...query, ...(pageParam ? { after: pageParam } : {}) } },
        }),
      ),
    initialPageParam: '',
    getNextPageParam: (last) => last.next ?? undefined,
    placeholderData: keepPreviousData,
  });
  const rows = data?.pages.flatMap((p) => p.items) ?? [];
  if (error && !data) return <Failure error={error} />;
  return (
    <Scroll className="sheet">
      <Group justify="space-between" mb="xs">
        <Checkbox
          size="xs"
          label="everything that answers"
          checked={everything}
          onChange={(e) => {
            set('all', e.currentTarget.checked ? 'yes' : '');
          }}
        />
        <TextInput
          size="xs"
          w={260}
          aria-label="Find in this sweep"
          placeholder="Name, address or issuer"
          value={params.get('search') ?? ''}
          onChange={(e) => {
            set('search', e.currentTarget.value);
          }}
        />
      </Group>
      <table className="rows">
        <thead>
          <tr>
            <th scope="col">Endpoint</th>
            <th scope="col">State</th>
            <th scope="col">Names</th>
            <th scope="col">Issuer</th>
            <th scope="col">Expires</th>
            <th scope="col">Looked after by</th>
          </tr>
        </thead>
        <tbody>
          {rows.map((f) => (
            <Row key={`${f.address}:${f.port}`} finding={f} now={now} />
          ))}
          {data && rows.length === 0 && (
            <tr>
              <td colSpan={6}>{search ? 'Nothing matches.' : 'Nothing of the kind was met.'}</td>
            </tr>
          )}
        </tbody>
      </table>
      <More
        shown={rows.length}
        busy={isFetchingNextPage}
        more={hasNextPage ? () => void fetchNextPage() : null}
      />
      <CommandLine command={`beacon sweep show ${number}${everything ? ' --all' : ''}`} />
    </Scroll>
  );
}

function Row({ finding: f, now }: { finding: SweepFinding; now: number }) {
  const keeper = f.managed ?? (f.serial ? 'nobody' : '–');
  return (
    <>
      <tr>
        <td className="nowrap">
          {f.address}:{f.port}
        </td>
        <td>
          <State severity={f.severity} word={f.state} />
        </td>
        <td>{f.names.slice(0, 3).join(', ')}</td>
        <td title={f.issuer ?? ''}>{commonName(f.issuer)}</td>
        <td className="nowrap">{when(f.notAfter, now)}</td>
        <td>
          {keeper}
          {f.host && f.service && (
            <>
              {': '}
              <Link to={`/new?host=${f.host}&service=${encodeURIComponent(f.service)}`}>request one</Link>
            </>
          )}
        </td>
      </tr>
      {f.takeOver && (
        <tr>
          <td />
          <td colSpan={5} className={f.host ? 'mono dim' : 'dim'}>
            {f.takeOver}
          </td>
        </tr>
      )}
    </>
  );
}
