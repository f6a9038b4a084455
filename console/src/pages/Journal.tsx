import { useState } from 'react';
import { Group, Loader, Stack, Text, TextInput, Title } from '@mantine/core';
import { useDebouncedValue } from '@mantine/hooks';
import { keepPreviousData, useInfiniteQuery } from '@tanstack/react-query';
import { api, take } from '../api/client';
import { CommandLine, Failure } from '../components/Bits';
import { More } from '../components/More';
import { clock, day, shellWord } from '../words';
import { Scroll } from '../components/Scroll';

export function Journal() {
  const [search, setSearch] = useState('');
  const [asked] = useDebouncedValue(search, 200);
  const { data, error, hasNextPage, fetchNextPage, isFetchingNextPage } = useInfiniteQuery({
    // What was found stays as it was: a search goes through all of the journal, and would again with every change.
    queryKey: asked ? ['entries-found', asked] : ['journal'],
    queryFn: ({ pageParam }) =>
      take(
        api.GET('/api/v1/journal', {
          params: { query: { search: asked, take: 100, ...(pageParam ? { before: pageParam } : {}) } },
        }),
      ),
    initialPageParam: 0,
    getNextPageParam: (last) => (last.next ? Number(last.next) : undefined),
    placeholderData: keepPreviousData,
    ...(asked ? {} : { refetchInterval: 10_000 }),
  });
  if (error && !data) return <Failure error={error} />;
  if (!data) return <Loader aria-label="Loading" />;
  const rows = data.pages.flatMap((p) => p.items);
  return (
    <Stack gap="md">
      <Group justify="space-between">
        <Group gap="sm" align="baseline">
          <Title order={2} fz={22}>
            Journal
          </Title>
          <Text size="sm" c="dimmed">
            each entry carries the hash of the one before
          </Text>
        </Group>
        <TextInput
          size="xs"
          w={260}
          aria-label="Find entries"
          placeholder="Who, what, which or why"
          value={search}
          onChange={(e) => {
            setSearch(e.currentTarget.value);
          }}
        />
      </Group>
      <Scroll as="div" className="sheet">
        <table className="rows" aria-label="Journal">
          <thead>
            <tr>
              <th scope="col">No.</th>
              <th scope="col">At (UTC)</th>
              <th scope="col">Who</th>
              <th scope="col">Did</th>
              <th scope="col">What and why</th>
            </tr>
          </thead>
          <tbody>
            {rows.map((e) => (
              <tr key={e.sequence}>
                <td>{e.sequence}</td>
                <td className="nowrap">
                  {day(e.at)} {clock(e.at)}
                </td>
                <td className="nowrap">{e.actor}</td>
                <td className="nowrap">{e.action}</td>
                <td className="breaks">
                  <span className="name breaks">{e.subject}</span> <span className="dim">{e.detail}</span>
                </td>
              </tr>
            ))}
          </tbody>
        </table>
      </Scroll>
      {rows.length === 0 && !hasNextPage && <Text size="sm">Nothing matches.</Text>}
      {(rows.length > 0 || hasNextPage) && (
        <More
          shown={rows.length}
          busy={isFetchingNextPage}
          more={hasNextPage ? () => void fetchNextPage() : null}
          {...(asked && { back: data.pages.at(-1)?.next ?? '' })}
        />
      )}
      <CommandLine command={asked ? `beacon journal list ${shellWord(asked)}` : 'beacon journal verify'} />
    </Stack>
  );
}
