import { useState } from 'react';
import { Group, Loader, SegmentedControl, Stack, Text, TextInput, Title } from '@mantine/core';
import { useDebouncedValue } from '@mantine/hooks';
import { keepPreviousData, useQuery } from '@tanstack/react-query';
import { Link } from 'react-router';
import { api, take } from '../api/client';
import { CommandLine, Failure } from '../components/Bits';
import { requestSeverity, requestWord } from '../components/requests';
import { State } from '../components/State';
import { useNow } from '../components/useNow';
import { when } from '../words';
import { Scroll } from '../components/Scroll';

/** The queue: what waits for somebody first, and everything that was asked for. */
export function Requests() {
  const now = useNow();
  const [state, setState] = useState('waiting-for-approval');
  const [search, setSearch] = useState('');
  const [asked] = useDebouncedValue(search, 200);
  const { data, error } = useQuery({
    queryKey: ['requests', state, asked],
    queryFn: () =>
      take(
        api.GET('/api/v1/requests', {
          params: { query: { ...(state ? { state } : {}), ...(asked ? { search: asked } : {}) } },
        }),
      ),
    placeholderData: keepPreviousData,
  });
  if (error && !data) return <Failure error={error} />;
  if (!data) return <Loader aria-label="Loading" />;
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
            {data.items.map((r) => (
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
        {data.items.length === 0 && (
          <Text size="sm">
            {state === 'waiting-for-approval' && !asked ? 'Nothing waits for approval.' : 'Nothing matches.'}
          </Text>
        )}
      </Scroll>
      <CommandLine command={`beacon request list${state ? ` --state ${state}` : ''}`} />
    </Stack>
  );
}
