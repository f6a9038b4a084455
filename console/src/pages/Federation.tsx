import { useState } from 'react';
import { Group, Loader, Stack, TextInput, Title } from '@mantine/core';
import { useInfiniteQuery } from '@tanstack/react-query';
import { Link } from 'react-router';
import { api, take } from '../api/client';
import { CommandLine, Failure } from '../components/Bits';
import { More } from '../components/More';
import { ProviderState } from '../components/ProviderState';
import { Scroll } from '../components/Scroll';
import { useNow } from '../components/useNow';
import { commonName, shortHost, when } from '../words';

/** Providers of sign-ins: what each signs with, and how far it is with the next one. */
export function Federation() {
  const now = useNow();
  const [search, setSearch] = useState('');
  const { data, error, fetchNextPage, hasNextPage, isFetchingNextPage } = useInfiniteQuery({
    queryKey: ['federation', 'list', search],
    queryFn: ({ pageParam }) =>
      take(
        api.GET('/api/v1/federation', {
          params: { query: { ...(search && { search }), ...(pageParam && { after: pageParam }) } },
        }),
      ),
    initialPageParam: '',
    getNextPageParam: (last) => last.next ?? undefined,
  });
  const rows = data?.pages.flatMap((p) => p.items) ?? [];
  if (error && !data) return <Failure error={error} />;
  if (!data) return <Loader aria-label="Loading" />;
  return (
    <Stack gap="md">
      <Group justify="space-between">
        <Title order={2} fz={22}>
          Federation
        </Title>
        <TextInput
          aria-label="Search"
          placeholder="A provider or a host"
          value={search}
          onChange={(e) => {
            setSearch(e.currentTarget.value);
          }}
        />
      </Group>
      <Scroll className="sheet">
        <table className="rows">
          <thead>
            <tr>
              <th scope="col">Provider</th>
              <th scope="col">State</th>
              <th scope="col">Host</th>
              <th scope="col">Signs with</th>
              <th scope="col">Expires</th>
              <th scope="col">Partners that know the next one</th>
            </tr>
          </thead>
          <tbody>
            {rows.map((p) => (
              <tr key={p.number}>
                <th scope="row">
                  <Link to={`/federation/${p.number}`}>{p.entity}</Link>
                </th>
                <td>
                  <ProviderState provider={p} />
                </td>
                <td>
                  <Link to={`/hosts/${p.host}`}>{shortHost(p.host)}</Link>
                </td>
                <td>{p.certificate ?? commonName(p.signs?.subject ?? null)}</td>
                <td className="nowrap">{when(p.signs?.notAfter, now)}</td>
                <td>
                  {p.step === 'waiting'
                    ? `${p.partners.filter((x) => x.knows).length} of ${p.partners.length}`
                    : '–'}
                </td>
              </tr>
            ))}
            {rows.length === 0 && (
              <tr>
                <td colSpan={6}>
                  {search
                    ? 'Nothing matches.'
                    : 'No agent looks after a provider of sign-ins. On its host: beacon-agent add simplesamlphp FOLDER.'}
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
      <CommandLine command="beacon federation list" />
    </Stack>
  );
}
