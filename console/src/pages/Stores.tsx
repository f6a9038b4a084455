import { Checkbox, Group, Loader, Stack, TextInput, Title } from '@mantine/core';
import { useDebouncedValue } from '@mantine/hooks';
import { keepPreviousData, useInfiniteQuery } from '@tanstack/react-query';
import { Link, useSearchParams } from 'react-router';
import { api, take } from '../api/client';
import { CommandLine, Failure } from '../components/Bits';
import { More } from '../components/More';
import { usedAs } from '../components/stored';
import { useNow } from '../components/useNow';
import { commonName, shellWord, shortHost, when } from '../words';
import { Scroll } from '../components/Scroll';

/** Which host has this certificate, this key, this issuer: the stores of all hosts, searched by the service. */
export function Stores() {
  const now = useNow();
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
  const [issuer] = useDebouncedValue((params.get('issuer') ?? '').trim(), 250);
  const inUse = params.get('in-use') === 'yes';
  const query = { search, issuer, ...(inUse ? { inUse } : {}) };
  const { data, error, fetchNextPage, hasNextPage, isFetchingNextPage } = useInfiniteQuery({
    queryKey: ['store', query],
    queryFn: ({ pageParam }) =>
      take(
        api.GET('/api/v1/store', {
          params: { query: { ...query, ...(pageParam ? { after: Number(pageParam) } : {}), take: 100 } },
        }),
      ),
    initialPageParam: '',
    getNextPageParam: (last) => last.next ?? undefined,
    placeholderData: keepPreviousData,
  });
  const rows = data?.pages.flatMap((p) => p.items) ?? [];
  const command = [
    'beacon store list',
    search && shellWord(search),
    issuer && `--issuer ${shellWord(issuer)}`,
    inUse && '--in-use',
  ]
    .filter(Boolean)
    .join(' ');
  if (error && !data) return <Failure error={error} />;
  return (
    <Stack gap="md">
      <Group justify="space-between">
        <Title order={2} fz={22}>
          Stores
        </Title>
        <Group gap="xs">
          <Checkbox
            size="xs"
            label="in use only"
            checked={inUse}
            onChange={(e) => {
              set('in-use', e.currentTarget.checked ? 'yes' : '');
            }}
          />
          <TextInput
            size="xs"
            w={200}
            aria-label="Issuer"
            placeholder="Issuer’s common name"
            value={params.get('issuer') ?? ''}
            onChange={(e) => {
              set('issuer', e.currentTarget.value);
            }}
          />
          <TextInput
            size="xs"
            w={300}
            aria-label="Find in all stores"
            placeholder="Beginning of a name, serial, SHA-256 fingerprint"
            value={params.get('search') ?? ''}
            onChange={(e) => {
              set('search', e.currentTarget.value);
            }}
          />
        </Group>
      </Group>
      {!data ? (
        <Loader aria-label="Loading" />
      ) : (
        <Scroll className="sheet">
          <table className="rows">
            <thead>
              <tr>
                <th scope="col">Host</th>
                <th scope="col">Certificate</th>
                <th scope="col">Label</th>
                <th scope="col">Serial</th>
                <th scope="col">Expires</th>
                <th scope="col">Use</th>
                <th scope="col">Issuer</th>
              </tr>
            </thead>
            <tbody>
              {rows.map((e) => (
                <tr key={`${e.host} ${e.thumbprint}`}>
                  <td>
                    <Link to={`/hosts/${encodeURIComponent(e.host)}`}>{shortHost(e.host)}</Link>
                  </td>
                  <td>
                    <Link to={`/certificates/${encodeURIComponent(e.certificate)}`}>{e.certificate}</Link>
                  </td>
                  <td>{e.label}</td>
                  <td className="mono" title={`SHA-256 ${e.thumbprint}${e.key ? ` · key ${e.key}` : ''}`}>
                    {e.serial}
                  </td>
                  <td className="nowrap">{when(e.notAfter, now)}</td>
                  <td className="nowrap">{usedAs(e)}</td>
                  <td title={e.issuer ?? ''}>{commonName(e.issuer)}</td>
                </tr>
              ))}
              {rows.length === 0 && (
                <tr>
                  <td colSpan={7}>
                    {search || issuer || inUse
                      ? 'No host has such a certificate or key.'
                      : 'No host has a certificate of ours yet.'}
                  </td>
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
      <CommandLine command={command} />
    </Stack>
  );
}
