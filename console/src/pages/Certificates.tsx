import { useMemo, useState } from 'react';
import { Button, Group, Loader, Select, Stack, Text, TextInput, Title } from '@mantine/core';
import { useDebouncedValue } from '@mantine/hooks';
import { keepPreviousData, useQuery } from '@tanstack/react-query';
import { Link, useSearchParams } from 'react-router';
import { api, take, type CertificateInfo } from '../api/client';
import { CommandLine, Failure } from '../components/Bits';
import { LifeRing } from '../components/LifeRing';
import { State } from '../components/State';
import { useNow } from '../components/useNow';
import { shortHost, when } from '../words';

type Column = 'name' | 'state' | 'host' | 'planned' | 'notAfter';
const weight = { failed: 0, now: 1, soon: 2, fine: 3 };
const columns: [Column, string][] = [
  ['name', 'Certificate'],
  ['state', 'State'],
  ['host', 'Host'],
  ['planned', 'Renewal'],
  ['notAfter', 'Ends'],
];

function compare(a: CertificateInfo, b: CertificateInfo, by: Column): number {
  if (by === 'state') return weight[a.severity] - weight[b.severity] || a.name.localeCompare(b.name);
  return (a[by] ?? '\uffff').localeCompare(b[by] ?? '\uffff');
}

export function Certificates() {
  const now = useNow();
  const [params, setParams] = useSearchParams();
  const search = params.get('search') ?? '';
  const [asked] = useDebouncedValue(search, 200);
  const [filter, setFilter] = useState<string | null>('all');
  const [sort, setSort] = useState<{ by: Column; down: boolean }>({ by: 'state', down: false });
  const [shown, setShown] = useState(200);
  const { data, error } = useQuery({
    queryKey: ['certificates', asked],
    queryFn: () =>
      take(api.GET('/api/v1/certificates', { params: { query: { search: asked, take: 2000 } } })),
    placeholderData: keepPreviousData,
  });
  const rows = useMemo(() => {
    const all = (data?.items ?? []).filter(
      (c) =>
        filter === 'all' ||
        (filter === 'hand'
          ? c.severity !== 'fine'
          : filter === 'auto'
            ? c.policy.automatic
            : !c.policy.automatic),
    );
    all.sort((a, b) => compare(a, b, sort.by) * (sort.down ? -1 : 1));
    return all;
  }, [data, filter, sort]);
  if (error && !data) return <Failure error={error} />;
  return (
    <Stack gap="md">
      <Group justify="space-between">
        <Group gap="sm" align="baseline">
          <Title order={2} fz={22}>
            Certificates
          </Title>
          <Text size="sm" c="dimmed" data-testid="count" role="status">
            {rows.length}
            {data?.next ? '+' : ''} shown
          </Text>
        </Group>
        <Group gap="xs">
          <TextInput
            size="xs"
            w={240}
            aria-label="Find certificates"
            placeholder="Name, serial or SHA-256 fingerprint"
            value={search}
            onChange={(e) => {
              setParams(e.currentTarget.value ? { search: e.currentTarget.value } : {}, { replace: true });
            }}
          />
          <Select
            size="xs"
            w={190}
            aria-label="Filter"
            allowDeselect={false}
            value={filter}
            onChange={setFilter}
            data={[
              { value: 'all', label: 'All' },
              { value: 'hand', label: 'Needing a hand' },
              { value: 'auto', label: 'Renewed by themselves' },
              { value: 'hand-made', label: 'Not renewed by us' },
            ]}
          />
          <Button component={Link} to="/new" size="xs">
            New certificate
          </Button>
        </Group>
      </Group>
      {!data ? (
        <Loader aria-label="Loading" />
      ) : rows.length === 0 ? (
        <div className="sheet">
          {search
            ? 'Nothing matches. Search finds names, serials and SHA-256 fingerprints.'
            : 'There is no certificate yet. Request the first one.'}
        </div>
      ) : (
        <div className="sheet scroll">
          <table className="rows" aria-label="Certificates">
            <thead>
              <tr>
                {columns.map(([by, head]) => (
                  <th
                    key={by}
                    scope="col"
                    aria-sort={sort.by === by ? (sort.down ? 'descending' : 'ascending') : 'none'}
                  >
                    <button
                      type="button"
                      onClick={() => {
                        setSort({ by, down: sort.by === by && !sort.down });
                      }}
                    >
                      {head}
                      {sort.by === by ? (sort.down ? ' ↓' : ' ↑') : ''}
                    </button>
                  </th>
                ))}
              </tr>
            </thead>
            <tbody>
              {rows.slice(0, shown).map((c) => (
                <tr key={c.name}>
                  <td>
                    <Link to={`/certificates/${encodeURIComponent(c.name)}`} className="name">
                      {c.name}
                    </Link>
                    {c.names.length > 1 && (
                      <div className="dim">{c.names.filter((n) => n !== c.name).join(', ')}</div>
                    )}
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
                  <td className="nowrap">
                    {c.planned ? when(c.planned, now) : <span className="dim">by hand</span>}
                  </td>
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
              ))}
            </tbody>
          </table>
          {rows.length > shown && (
            <Button
              variant="default"
              size="xs"
              mt="sm"
              onClick={() => {
                setShown(shown + 500);
              }}
            >
              Show more
            </Button>
          )}
        </div>
      )}
      <CommandLine command={search ? `beacon cert list ${search}` : 'beacon cert list'} />
    </Stack>
  );
}
