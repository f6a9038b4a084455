import { useState } from 'react';
import { Button, Group, Loader, Stack, Text, Title } from '@mantine/core';
import { useMutation, useQuery, useQueryClient } from '@tanstack/react-query';
import { useNavigate, useParams } from 'react-router';
import { api, take } from '../api/client';
import { CommandLine, Facts, Failure } from '../components/Bits';
import { NotOffered, Offered } from '../components/Offered';
import { offeredWord } from '../components/profiles';
import { useDenied } from '../components/session';
import { CopyProfile, ProfileEditor } from '../components/ProfileEditor';
import { Scroll } from '../components/Scroll';
import { State } from '../components/State';
import { useNow } from '../components/useNow';
import { when } from '../words';

/** One profile: what it says, how it came to say so, and its file. */
export function Profile() {
  const id = useParams().id ?? '';
  const now = useNow();
  const cache = useQueryClient();
  const navigate = useNavigate();
  const denied = useDenied();
  const [dialog, setDialog] = useState<'copy' | 'edit' | null>(null);
  const path = { params: { path: { id } } };
  const { data, error } = useQuery({
    queryKey: ['profile', id],
    queryFn: () => take(api.GET('/api/v1/profiles/{id}', path)),
  });
  const yaml = useQuery({
    queryKey: ['profile', id, 'yaml'],
    queryFn: () => take(api.GET('/api/v1/profiles/{id}/yaml', path)),
  });
  const offer = useMutation({
    mutationFn: (offered: boolean) =>
      take(
        offered
          ? api.POST('/api/v1/profiles/{id}/offer', path)
          : api.POST('/api/v1/profiles/{id}/withdraw', path),
      ),
    onSuccess: () => cache.invalidateQueries({ queryKey: ['profile', id] }),
  });
  if (error && !data) return <Failure error={error} />;
  if (!data) return <Loader aria-label="Loading" />;
  const { profile: p, definition: d } = data;
  const names = [
    d.names.hostNames ? 'host names' : 'no host names',
    d.names.wildcards ? 'wildcards with approval' : 'no wildcards',
    d.names.addresses ? 'addresses' : 'no addresses',
    ...(d.names.within.length ? [`only in ${d.names.within.join(', ')}`] : []),
    ...(d.names.most < 250 ? [`at most ${d.names.most}`] : []),
  ];
  return (
    <Stack gap="md">
      <Group justify="space-between">
        <Group align="baseline" gap="md">
          <Title order={2} fz={22}>
            {p.title}
          </Title>
          <State
            severity={p.forPeople && !p.offered ? 'soon' : 'fine'}
            word={`${p.id}, revision ${p.revision}, ${offeredWord(p, 'for the system alone')}`}
          />
        </Group>
        <Group gap="xs">
          <Offered operation="copyProfile" denied={denied}>
            <Button
              size="compact-sm"
              variant="default"
              onClick={() => {
                setDialog('copy');
              }}
            >
              Copy …
            </Button>
          </Offered>
          {p.forPeople && yaml.data && (
            <Offered operation="changeProfile" denied={denied}>
              <Button
                size="compact-sm"
                variant="default"
                onClick={() => {
                  setDialog('edit');
                }}
              >
                Change …
              </Button>
            </Offered>
          )}
          {p.forPeople && (
            <Offered operation={p.offered ? 'withdrawProfile' : 'offerProfile'} denied={denied}>
              <Button
                size="compact-sm"
                variant="default"
                loading={offer.isPending}
                onClick={() => {
                  offer.mutate(!p.offered);
                }}
              >
                {p.offered ? 'Withdraw' : 'Offer again'}
              </Button>
            </Offered>
          )}
        </Group>
      </Group>
      <NotOffered denied={denied} actions={{ changeProfile: 'change profiles' }} />
      {dialog === 'edit' && yaml.data && (
        <ProfileEditor
          id={p.id}
          yaml={yaml.data.yaml}
          close={() => {
            setDialog(null);
          }}
        />
      )}
      {dialog === 'copy' && (
        <CopyProfile
          id={p.id}
          close={() => {
            setDialog(null);
          }}
          go={(to) => {
            setDialog(null);
            void navigate(`/profiles/${to}`);
          }}
        />
      )}
      {offer.error && <Failure error={offer.error} />}
      <section className="sheet">
        <Facts
          rows={[
            ['Purpose', p.purpose],
            ['Life', p.life],
            ['Keys', p.keys.join(', ')],
            ['Usage', [...p.keyUsage, ...p.extendedKeyUsage].join(', ')],
            ['Names', names.join(', ')],
            [
              'Subject',
              `${{ empty: 'none', 'first-name': 'the first name' }[d.subject] ?? 'from the request'}${d.fixed ? `, always with ${d.fixed}` : ''}`,
            ],
            [
              'Keys may leave their host',
              d.releaseTo?.length ? `taken out by ${d.releaseTo.join(', ')}` : 'never',
            ],
            ['On its computer’s object', d.published ? 'the edition in use is published there' : null],
            ['May ask', d.mayAsk.length ? d.mayAsk.join(', ') : 'anyone allowed to request certificates'],
            ['Approval', p.approval],
            ['Certificates', String(data.certificates)],
          ]}
        />
      </section>
      <section className="sheet" aria-label="Revisions">
        <Title order={3} fz={15} mb="xs">
          Revisions
        </Title>
        {data.revisions.map((r) => (
          <div key={r.revision}>
            <Text size="sm" fw={600}>
              {r.revision}{' '}
              <Text span c="dimmed" fw={400}>
                {when(r.at, now)}, by {r.by}
              </Text>
            </Text>
            {r.changes.map((c) => (
              <Text key={c.field} size="sm" className="mono">
                {c.field}: <del>{c.before || 'nothing'}</del> → <ins>{c.after || 'nothing'}</ins>
              </Text>
            ))}
          </div>
        ))}
      </section>
      {yaml.data && (
        <section className="sheet">
          <Scroll as="pre" className="mono diff" label="The profile as YAML">
            {yaml.data.yaml}
          </Scroll>
        </section>
      )}
      <CommandLine command={`beacon profile export ${p.id} --out ${p.id}.yaml`} />
      <CommandLine command={`beacon profile import ${p.id}.yaml --preview`} />
    </Stack>
  );
}
