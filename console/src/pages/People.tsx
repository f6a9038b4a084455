import { useState } from 'react';
import {
  Button,
  Group,
  Loader,
  Modal,
  PasswordInput,
  Stack,
  TagsInput,
  Text,
  TextInput,
  Title,
  VisuallyHidden,
} from '@mantine/core';
import { useDisclosure } from '@mantine/hooks';
import { useMutation, useQuery, useQueryClient } from '@tanstack/react-query';
import { api, take, type ConsentInfo, type PersonInfo } from '../api/client';
import { CommandLine, Failure } from '../components/Bits';
import { State } from '../components/State';
import { useNow } from '../components/useNow';
import { day, when } from '../words';
import { Scroll } from '../components/Scroll';

/** Who may sign in, in which groups, and what waits for a second administrator. */
export function People() {
  const [search, setSearch] = useState('');
  const people = useQuery({ queryKey: ['people'], queryFn: () => take(api.GET('/api/v1/people')) });
  if (people.error) return <Failure error={people.error} />;
  if (!people.data) return <Loader aria-label="Loading" />;
  const t = search.trim().toLowerCase();
  const fits = (p: PersonInfo) => !t || p.name.includes(t) || p.groups.some((g) => g.includes(t));
  return (
    <Stack gap="md">
      <Group justify="space-between">
        <Title order={2} fz={22}>
          People
        </Title>
        <Group gap="xs">
          <TextInput
            size="xs"
            w={240}
            aria-label="Find people and groups"
            placeholder="Part of a name or group"
            value={search}
            onChange={(e) => {
              setSearch(e.currentTarget.value);
            }}
          />
          <Edit label="Add a person" />
        </Group>
      </Group>
      <Consents />
      <Scroll as="div" className="sheet">
        <table className="rows" aria-label="People">
          <thead>
            <tr>
              <th scope="col">Name</th>
              <th scope="col">State</th>
              <th scope="col">Groups</th>
              <th scope="col">
                <VisuallyHidden>What can be done</VisuallyHidden>
              </th>
            </tr>
          </thead>
          <tbody>
            {people.data.filter(fits).map((p) => (
              <PersonRow key={p.name} person={p} />
            ))}
          </tbody>
        </table>
      </Scroll>
      <CommandLine command="beacon person list" />
    </Stack>
  );
}

function PersonRow({ person }: { person: PersonInfo }) {
  const cache = useQueryClient();
  const unlock = useMutation({
    mutationFn: () =>
      take(api.POST('/api/v1/people/{name}/unlock', { params: { path: { name: person.name } } })),
    onSuccess: () => cache.invalidateQueries({ queryKey: ['people'] }),
  });
  return (
    <tr>
      <td className="name nowrap">{person.name}</td>
      <td className="nowrap">
        {person.left ? (
          <State severity="soon" word={`left on ${day(person.left)}`} />
        ) : (
          <State
            severity={person.locked ? 'now' : 'fine'}
            word={person.locked ? 'must wait' : 'may sign in'}
          />
        )}
      </td>
      <td>{person.groups.join(', ') || <span className="dim">none: may read</span>}</td>
      <td>
        {!person.left && (
          <Group gap={6} justify="flex-end" wrap="nowrap">
            {person.locked && (
              <Button
                size="compact-xs"
                variant="default"
                loading={unlock.isPending}
                onClick={() => {
                  unlock.mutate();
                }}
              >
                Unlock
              </Button>
            )}
            <Edit label="Groups" person={person} what="groups" />
            <Edit label="New password" person={person} what="password" />
            <Leave person={person} />
          </Group>
        )}
        {unlock.error && <Failure error={unlock.error} />}
      </td>
    </tr>
  );
}

/** One form for a new person, other groups, another password. */
function Edit({
  label,
  person,
  what = 'new',
}: {
  label: string;
  person?: PersonInfo;
  what?: 'new' | 'groups' | 'password';
}) {
  const [opened, { open, close }] = useDisclosure();
  const [name, setName] = useState('');
  const [password, setPassword] = useState('');
  const [groups, setGroups] = useState<string[]>(person?.groups ?? []);
  const cache = useQueryClient();
  const path = { params: { path: { name: person?.name ?? '' } } };
  const save = useMutation({
    mutationFn: () => {
      if (what === 'groups')
        return take(api.PUT('/api/v1/people/{name}/groups', { ...path, body: { groups } }));
      if (what === 'password')
        return take(
          api.PUT('/api/v1/people/{name}/password', { ...path, body: { old: null, new: password } }),
        );
      return take(api.POST('/api/v1/people', { body: { name: name.trim(), password, groups } }));
    },
    onSuccess: async () => {
      setPassword('');
      close();
      await cache.invalidateQueries({ queryKey: ['people'] });
    },
  });
  return (
    <>
      <Button
        size={person ? 'compact-xs' : 'xs'}
        variant={person ? 'default' : 'filled'}
        aria-label={person ? `${label} of ${person.name}` : undefined}
        onClick={() => {
          setGroups(person?.groups ?? []);
          open();
        }}
      >
        {label}
      </Button>
      <Modal
        opened={opened}
        onClose={close}
        title={person ? `${label} of ${person.name}` : label}
        centered
        closeButtonProps={{ 'aria-label': 'Close' }}
      >
        <form
          onSubmit={(e) => {
            e.preventDefault();
            save.mutate();
          }}
        >
          <Stack>
            {what === 'new' && (
              <TextInput
                label="Name"
                description="As they sign in; small letters."
                data-autofocus
                required
                value={name}
                onChange={(e) => {
                  setName(e.currentTarget.value);
                }}
              />
            )}
            {what !== 'groups' && (
              <PasswordInput
                label="Password"
                description="At least 12 characters. Tell it on another way; they can change it themselves."
                autoComplete="new-password"
                required
                value={password}
                onChange={(e) => {
                  setPassword(e.currentTarget.value);
                }}
                visibilityToggleButtonProps={{ 'aria-label': 'Show the password' }}
              />
            )}
            {what !== 'password' && (
              <TagsInput
                label="Groups"
                description="administrators, approvers, or a group that holds a zone. None: may read."
                data={['administrators', 'approvers']}
                value={groups}
                onChange={setGroups}
              />
            )}
            {what === 'groups' && <Text size="sm">It holds from their next call on.</Text>}
            {save.error && <Failure error={save.error} />}
            <Group justify="flex-end">
              <Button variant="default" onClick={close}>
                Cancel
              </Button>
              <Button type="submit" loading={save.isPending}>
                Save
              </Button>
            </Group>
          </Stack>
        </form>
      </Modal>
    </>
  );
}

function Leave({ person }: { person: PersonInfo }) {
  const [opened, { open, close }] = useDisclosure();
  const cache = useQueryClient();
  const leave = useMutation({
    mutationFn: () => take(api.DELETE('/api/v1/people/{name}', { params: { path: { name: person.name } } })),
    onSuccess: async () => {
      close();
      await cache.invalidateQueries({ queryKey: ['people'] });
    },
  });
  return (
    <>
      <Button size="compact-xs" variant="default" aria-label={`${person.name} leaves`} onClick={open}>
        Leaves
      </Button>
      <Modal
        opened={opened}
        onClose={close}
        title={`${person.name} leaves`}
        centered
        closeButtonProps={{ 'aria-label': 'Close' }}
      >
        <Stack>
          <Text size="sm">
            Sessions and tokens end now, and so do requests and approvals that are under way. Certificates
            stay as they are and are renewed; give them to somebody with “beacon cert give”. The name is not
            used again.
          </Text>
          {leave.error && <Failure error={leave.error} />}
          <Group justify="flex-end">
            <Button variant="default" onClick={close} data-autofocus>
              Cancel
            </Button>
            <Button
              color="red"
              loading={leave.isPending}
              onClick={() => {
                leave.mutate();
              }}
            >
              End their access
            </Button>
          </Group>
        </Stack>
      </Modal>
    </>
  );
}

/** Calls that wait for a second administrator; shown only where there are any. */
function Consents() {
  const now = useNow();
  const { data } = useQuery({ queryKey: ['consents'], queryFn: () => take(api.GET('/api/v1/consents')) });
  const open = (data ?? []).filter((c) => !c.used && new Date(c.until).getTime() > now);
  if (open.length === 0) return null;
  return (
    <Scroll className="sheet" label="Waiting for a second administrator">
      <Text fw={600} mb={4}>
        Waiting for a second administrator
      </Text>
      <table className="rows">
        <thead>
          <tr>
            <th scope="col">Call</th>
            <th scope="col">Asked for by</th>
            <th scope="col">Until</th>
            <th scope="col">State</th>
          </tr>
        </thead>
        <tbody>
          {open.map((c) => (
            <ConsentRow key={c.number} consent={c} until={when(c.until, now)} />
          ))}
        </tbody>
      </table>
    </Scroll>
  );
}

function ConsentRow({ consent, until }: { consent: ConsentInfo; until: string }) {
  const cache = useQueryClient();
  const give = useMutation({
    mutationFn: () =>
      take(api.POST('/api/v1/consents/{number}', { params: { path: { number: consent.number } } })),
    onSuccess: () => cache.invalidateQueries({ queryKey: ['consents'] }),
  });
  return (
    <tr>
      <td>
        <span className="mono">{consent.about}</span>
        <div className="mono dim">{consent.body}</div>
      </td>
      <td>{consent.by}</td>
      <td className="nowrap">{until}</td>
      <td>
        {consent.consentedBy ? (
          <State severity="fine" word={`${consent.consentedBy} consented`} />
        ) : (
          <Button
            size="compact-xs"
            loading={give.isPending}
            onClick={() => {
              give.mutate();
            }}
          >
            Consent
          </Button>
        )}
        {give.error && <Failure error={give.error} />}
      </td>
    </tr>
  );
}
