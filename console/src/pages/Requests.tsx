import { useState } from 'react';
import { Group, Loader, SegmentedControl, Stack, Text, TextInput, Title } from '@mantine/core';
import { useDebouncedValue } from '@mantine/hooks';
import { keepPreviousData, useInfiniteQuery } from '@tanstack/react-query';
import { Link } from 'react-router';
import { api, take } from '../api/client';
import { CommandLine, Failure } from '../components/Bits';
import { More } from '../components/More';
import { requestSeverity, requestWord } from '../components/requests';
import { State } from '../components/State';
import { useNow } from '../components/useNow';
import { shellWord, when } from '../words';
import { Scroll } from '../components/Scroll';

/** The queue: what waits for somebody first, and everything that was asked for. */
export function Requests() {
  const now = useNow();
  const [state, setState] = useState('waiting-for-approval');
  const [search, setSearch] = useState('');
  const [asked] = useDebouncedValue(search, 200);
  const { data, error, hasNextPage, fetchNextPage, isFetchingNextPage } = useInfiniteQuery({
    // A search through everything that was ever asked for is not made again with every change.
    queryKey: [asked && !state ? 'requests-found' : 'requests', state, asked],
    queryFn: ({ pageParam }) =>
      take(
        api.GET('/api/v1/requests', {
          params: {
            query: {
              take: 100,
              ...(state ? { state } : {}),
              ...(asked ? { search: asked } : {}),
              ...(pageParam ? { before: pageParam } : {}),
            },
          },
        }),
      ),
    initialPageParam: 0,
    getNextPageParam: (last) => (last.next ? Number(last.next) : undefined),
    placeholderData: keepPreviousData,
  });
  if (error && !data) return <Failure error={error} />;
  if (!data) return <Loader aria-label="Loading" />;
  const rows = data.pages.flatMap((p) => p.items);
  return (
    <Stack gap="md">
      <Group justify="space-between">
        <Title order={2} fz={22}>
          Requests
        </Title>
        <Group gap="sm">
          <SegmentedControl
            size="xs"
            aria-label="Which requests"
            value={state}
            onChange={setState}
            data={[
              { value: 'waiting-for-approval', label: 'Waiting for approval' },
              { value: 'refused', label: 'Refused' },
              { value: '', label: 'All' },
            ]}
          />
          <TextInput
            size="xs"
            w={240}
            aria-label="Find requests"
            placeholder="Number, name or requester"
            value={search}
            onChange={(e) => {
              setSearch(e.currentTarget.value);
            }}
          />
        </Group>
      </Group>
      <Scroll as="div" className="sheet">
        <table className="rows" aria-label="Requests">
          <thead>
            <tr>
              <th scope="col">No.</th>
              <th scope="col">Certificate</th>
              <th scope="col">State</th>
              <th scope="col">Approvals</th>
              <th scope="col">Asked for by</th>
              <th scope="col">Profile</th>
              <th scope="col">Differs in</th>
            </tr>
          </thead>
          <tbody>
            {rows.map((r) => (
              <tr key={r.number}>
                <td>
                  <Link to={`/requests/${r.number}`}>{r.number}</Link>
                </td>
                <td className="name">
                  <Link to={`/requests/${r.number}`}>{r.certificate}</Link>
                </td>
                <td>
                  <State severity={requestSeverity[r.state]} word={requestWord(r)} />
                </td>
                <td className="nowrap">
                  {r.needed ? `${r.approvals?.length ?? 0} of ${r.needed}` : '–'}
                  {r.amendments?.length ? ', amended' : ''}
                </td>
                <td>
                  {r.requester} <span className="dim">{when(r.at, now)}</span>
                </td>
                <td>{r.profile}</td>
                <td className="dim">{r.differences?.join('; ')}</td>
              </tr>
            ))}
          </tbody>
        </table>
      </Scroll>
      {rows.length === 0 && !hasNextPage && (
        <Text size="sm">
          {state === 'waiting-for-approval' && !asked ? 'Nothing waits for approval.' : 'Nothing matches.'}
        </Text>
      )}
      {(rows.length > 0 || hasNextPage) && (
        <More
          shown={rows.length}
          busy={isFetchingNextPage}
          more={hasNextPage ? () => void fetchNextPage() : null}
          {...(asked && { back: data.pages.at(-1)?.next ?? '' })}
        />
      )}
      <CommandLine
        command={['beacon request list', asked && shellWord(asked), state && `--state ${state}`]
          .filter(Boolean)
          .join(' ')}
      />
    </Stack>
  );
}
