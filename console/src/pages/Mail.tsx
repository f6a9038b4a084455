import { useState } from 'react';
import { Group, Loader, Stack, Text, TextInput, Title } from '@mantine/core';
import { useInfiniteQuery, useQueries } from '@tanstack/react-query';
import { Link } from 'react-router';
import { api, take, type MailUse, type ServiceInfo, type ServiceRecords } from '../api/client';
import { CommandLine, Failure } from '../components/Bits';
import { More } from '../components/More';
import { Offered } from '../components/Offered';
import { Scroll } from '../components/Scroll';
import { State } from '../components/State';
import { useDenied } from '../components/session';
import { useNow } from '../components/useNow';
import { read, shortHost, when } from '../words';

const uses: { use: MailUse; word: string; what: string }[] = [
  { use: 'server-to-server', word: 'Server to server', what: 'mail from other organisations' },
  { use: 'submission', word: 'Submission', what: 'programs that send' },
  { use: 'imap', word: 'IMAP', what: 'programs that read' },
  { use: 'pop', word: 'POP', what: 'programs that fetch' },
  { use: 'web-mail', word: 'Web mail', what: 'a site called webmail or mail' },
  { use: 'client-setup', word: 'Client set-up', what: 'a site called autoconfig or autodiscover' },
  { use: 'mobile-sync', word: 'Mobile sync', what: 'a site called mobile or sync' },
];

interface Row {
  service: ServiceInfo;
  endpoints: NonNullable<ServiceInfo['mail']>[number]['endpoints'];
}

/** Mail as one thing: each use of it, what serves it, by which certificate, and what DNS says of that. */
export function Mail() {
  const now = useNow();
  const [search, setSearch] = useState('');
  const denied = useDenied();
  const { data, error, fetchNextPage, hasNextPage, isFetchingNextPage } = useInfiniteQuery({
    queryKey: ['services', 'mail', search],
    queryFn: ({ pageParam }) =>
      take(
        api.GET('/api/v1/services', {
          params: {
            query: { mail: 'any', ...(search && { search }), ...(pageParam && { after: pageParam }) },
          },
        }),
      ),
    initialPageParam: '',
    getNextPageParam: (last) => last.next ?? undefined,
  });
  const services = data?.pages.flatMap((p) => p.items) ?? [];
  const records = useQueries({
    queries: services.map((s) => ({
      queryKey: ['records', s.host, s.name, s.look?.served?.serial],
      queryFn: () =>
        take(
          api.GET('/api/v1/services/{host}/{service}/records', {
            params: { path: { host: s.host, service: s.name } },
          }),
        ),
    })),
  });
  if (error && !data) return <Failure error={error} />;
  if (!data) return <Loader aria-label="Loading" />;
  const said = new Map(services.map((s, i) => [s, records[i]?.data]));
  const wrong = [...said.values()].flatMap((r) => r ?? []).filter((r) => r.standing === 'mismatch');
  const rowsOf = (use: MailUse): Row[] =>
    services.flatMap((service) =>
      (service.mail ?? []).filter((m) => m.use === use).map((m) => ({ service, endpoints: m.endpoints })),
    );
  return (
    <Stack gap="md">
      <Group justify="space-between">
        <Title order={2} fz={22}>
          Mail
        </Title>
        <TextInput
          aria-label="Search"
          placeholder="A name or a host"
          value={search}
          onChange={(e) => {
            setSearch(e.currentTarget.value);
          }}
        />
      </Group>
      <Text size="sm">{summary(services)}</Text>
      {wrong.map((r) => (
        <div className="sheet" role="status" key={r.owner}>
          <State severity="now" word={`${r.owner}: ${r.problem ?? 'no TLSA record means what is served.'}`} />
          <div className="dim">
            Servers and programs that go by DNS refuse it
            {r.missing ? '. What would match:' : ': bind a certificate, and its record comes first.'}
          </div>
          {r.missing && <code className="mono">{r.missing}</code>}
        </div>
      ))}
      <Scroll className="sheet">
        <table className="rows">
          <thead>
            <tr>
              <th scope="col">Use</th>
              <th scope="col">Served by</th>
              <th scope="col">Certificate</th>
              <th scope="col">Expires</th>
              <th scope="col">Read without TLS</th>
              <th scope="col">DNS (TLSA)</th>
            </tr>
          </thead>
          <tbody>
            {uses.map(({ use, word, what }) => {
              const rows = rowsOf(use);
              return rows.length === 0 ? (
                <tr key={use}>
                  <th scope="row">
                    {word}
                    <div className="dim">{what}</div>
                  </th>
                  <td className="dim" colSpan={5}>
                    nothing found
                  </td>
                </tr>
              ) : (
                rows.map((r, i) => (
                  <tr key={`${use} ${r.service.host}/${r.service.name}`}>
                    {i === 0 && (
                      <th scope="rowgroup" rowSpan={rows.length}>
                        {word}
                        <div className="dim">{what}</div>
                      </th>
                    )}
                    <Served row={r} />
                    <td>
                      <Certified service={r.service} denied={denied} />
                    </td>
                    <td className="nowrap">{when(r.service.look?.served?.notAfter, now)}</td>
                    <td>{readable(r)}</td>
                    <td>
                      <Dns records={said.get(r.service)} row={r} />
                    </td>
                  </tr>
                ))
              );
            })}
          </tbody>
        </table>
        <More
          shown={services.length}
          busy={isFetchingNextPage}
          more={hasNextPage ? () => void fetchNextPage() : null}
        />
      </Scroll>
      <CommandLine command="beacon mail" />
    </Stack>
  );
}

function Served({ row }: { row: Row }) {
  const { service: s, endpoints } = row;
  return (
    <td>
      <Link to={`/hosts/${s.host}`}>
        {shortHost(s.host)}/{s.name}
      </Link>
      <div className="dim">
        {s.names[0]}, port {[...new Set(endpoints.map((e) => e.port))].join(' and ')}
      </div>
    </td>
  );
}

function Certified({ service: s, denied }: { service: ServiceInfo; denied: ReturnType<typeof useDenied> }) {
  return (
    <>
      {s.binding && (
        <div>
          <Link to={`/certificates/${encodeURIComponent(s.binding.certificate)}`}>
            {s.binding.certificate}
          </Link>
        </div>
      )}
      <State severity={s.severity} word={s.state} />
      {!s.binding && (
        <Offered operation="submitRequest" denied={denied}>
          <div>
            <Link to={`/new?host=${s.host}&service=${encodeURIComponent(s.name)}`}>request one</Link>
          </div>
        </Offered>
      )}
    </>
  );
}

/** What a listener on the wire reads at the endpoints of one use. */
function readable({ endpoints }: Row) {
  const open = endpoints.filter((e) => e.clearText);
  return open.length === 0 ? (
    <span className="dim">nothing</span>
  ) : (
    <State severity="soon" word={read([...new Set(open.flatMap((e) => e.readable ?? []))])} />
  );
}

function Dns({ records, row }: { records: ServiceRecords[] | undefined; row: Row }) {
  if (!records) return <span className="dim">…</span>;
  const here = records.filter((r) => row.endpoints.some((e) => r.owner.startsWith(`_${String(e.port)}.`)));
  if (here.some((r) => r.standing === 'mismatch')) return <State severity="now" word="another key" />;
  if (here.some((r) => r.standing === 'matches')) return <State severity="fine" word="matches" />;
  if (here.some((r) => r.standing === 'not-known')) return <State severity="soon" word="not known" />;
  return <span className="dim">no record</span>;
}

/** How many certificates there are for all of it. */
function summary(services: ServiceInfo[]): string {
  const certificates = new Set(services.flatMap((s) => (s.binding ? [s.binding.certificate] : [])));
  const bare = services.filter((s) => !s.binding).length;
  const several = (n: number, one: string) => `${String(n)} ${one}${n === 1 ? '' : 's'}`;
  if (services.length === 0) return 'No server for mail was found on any host.';
  if (certificates.size === 1 && bare === 0)
    return `${[...certificates][0] ?? ''} is the certificate of all of it: it is renewed for all of them together, or for none.`;
  return `${several(services.length, 'service')} of mail, ${several(certificates.size, 'certificate')} of ours; ${
    bare === 0 ? 'none' : String(bare)
  } without one.`;
}
