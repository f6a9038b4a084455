import { useState } from 'react';
import { Button, Group, Loader, Stack, Text, TextInput, Title } from '@mantine/core';
import { useMutation, useQuery, useQueryClient } from '@tanstack/react-query';
import { api, take } from '../api/client';
import { CommandLine, Facts, Failure } from '../components/Bits';
import { Offered } from '../components/Offered';
import { useDenied } from '../components/session';
import { State } from '../components/State';
import { useNow } from '../components/useNow';
import { shellWord, when } from '../words';
import { Scroll } from '../components/Scroll';

interface Zone {
  zone: string;
  wildcards: boolean;
  depth: number | null;
  profile: string | null;
}

const bounds = (z: Zone) =>
  [
    z.wildcards || z.zone.includes('/') ? '' : 'no wildcards',
    z.depth === null ? '' : `${z.depth} ${z.depth === 1 ? 'label' : 'labels'} deep`,
    z.profile === null ? '' : `profile ${z.profile} alone`,
  ]
    .filter((b) => b)
    .join(', ');

/** The directory and DNS as the service sees them: whether they answer, who holds which zone, and all they say about a name. */
export function Domain() {
  const now = useNow();
  const denied = useDenied();
  const cache = useQueryClient();
  const { data, error } = useQuery({
    queryKey: ['directory'],
    queryFn: () => take(api.GET('/api/v1/directory')),
  });
  const refresh = useMutation({
    mutationFn: () => take(api.POST('/api/v1/directory/refresh')),
    onSuccess: (state) => {
      cache.setQueryData(['directory'], state);
    },
  });
  if (error) return <Failure error={error} />;
  if (!data) return <Loader aria-label="Loading" />;
  return (
    <Stack gap="md">
      <Group justify="space-between">
        <Title order={2} fz={22}>
          Domain
        </Title>
        <Offered operation="refreshDirectory" denied={denied}>
          <Button
            size="xs"
            variant="default"
            loading={refresh.isPending}
            onClick={() => {
              refresh.mutate();
            }}
          >
            Ask anew
          </Button>
        </Offered>
      </Group>
      <section className="sheet" aria-label="Directory">
        <Title order={3} fz="md">
          Directory
        </Title>
        {!data.present && (
          <Text size="sm">
            There is none: names are decided by hosts, zones and people alone. The setting is
            BEACON_DIRECTORY.
          </Text>
        )}
        {data.present && data.away && (
          <>
            <State severity="failed" word={data.away.message} />
            <Text size="sm">
              {data.away.cure} <span className="dim">since {when(data.away.since, now)}</span>
            </Text>
          </>
        )}
        {data.present && !data.away && (
          <State
            severity="fine"
            word={`${data.called} ${data.answered ? `answered ${when(data.answered, now)}` : 'was not asked yet'}; its answers are kept for ${data.minutes} min`}
          />
        )}
        <Text size="sm">{data.dns ? 'DNS is asked about names.' : 'DNS is not asked (BEACON_DNS).'}</Text>
        {refresh.error && <Failure error={refresh.error} />}
      </section>
      <Find />
      <Scroll className="sheet">
        <Title order={3} fz="md">
          Zones
        </Title>
        <table className="rows">
          <thead>
            <tr>
              <th scope="col">Zone</th>
              <th scope="col">Held by</th>
              <th scope="col">Bounds</th>
            </tr>
          </thead>
          <tbody>
            {data.zones.map((z) => (
              <tr key={`${z.zone} ${z.group}`}>
                <td>{z.zone}</td>
                <td>{z.group}</td>
                <td>{bounds(z)}</td>
              </tr>
            ))}
            {data.zones.length === 0 && (
              <tr>
                <td colSpan={3}>No group holds a zone: only hosts’ own names are issued (BEACON_ZONES).</td>
              </tr>
            )}
          </tbody>
        </table>
      </Scroll>
      <CommandLine command="beacon directory" />
    </Stack>
  );
}

function Find() {
  const [text, setText] = useState('');
  const [name, setName] = useState('');
  const found = useQuery({
    queryKey: ['directory', 'name', name],
    queryFn: () => take(api.GET('/api/v1/directory/names/{name}', { params: { path: { name } } })),
    enabled: name !== '',
  });
  return (
    <section className="sheet" aria-label="A name">
      <Title order={3} fz="md">
        Whose is this name?
      </Title>
      <form
        onSubmit={(e) => {
          e.preventDefault();
          setName(text.trim());
        }}
      >
        <Group gap="xs" align="end">
          <TextInput
            size="xs"
            w={330}
            aria-label="Name or address"
            placeholder="www.thistledown.example"
            spellCheck={false}
            value={text}
            onChange={(e) => {
              setText(e.currentTarget.value);
            }}
          />
          <Button
            size="xs"
            type="submit"
            variant="default"
            disabled={!text.trim()}
            loading={found.isFetching}
          >
            Find
          </Button>
        </Group>
      </form>
      <div aria-live="polite">
        {found.error && <Failure error={found.error} />}
        {found.data && (
          <Stack gap={4} mt="xs">
            {found.data.computers.map((c) => (
              <Facts
                key={c.account}
                rows={[
                  ['Computer', c.account + (c.enabled ? '' : ' (locked)')],
                  ['Names', c.names.join(', ')],
                  ['Principals', c.principals.join(', ')],
                  ['Groups', c.groups.join(', ')],
                ]}
              />
            ))}
            {found.data.computers.length === 0 && <Text size="sm">No computer of the directory has it.</Text>}
            {found.data.dns && <Text size="sm">{found.data.dns}</Text>}
            {found.data.zones.map((z) => (
              <Text size="sm" key={z}>
                {z}.
              </Text>
            ))}
            {found.data.zones.length === 0 && (
              <Text size="sm">It is in no zone that a group here holds.</Text>
            )}
            <CommandLine command={`beacon directory find ${shellWord(name)}`} />
          </Stack>
        )}
      </div>
    </section>
  );
}
