import { useState } from 'react';
import { Button, FileButton, Group, Loader, Select, Stack, Text, Textarea, Title } from '@mantine/core';
import { useDebouncedValue } from '@mantine/hooks';
import { keepPreviousData, useMutation, useQuery } from '@tanstack/react-query';
import { Link, useNavigate } from 'react-router';
import { api, take, type NewRequest } from '../api/client';
import { CommandLine, Facts, Failure } from '../components/Bits';
import { VerdictState } from '../components/State';
import { Verdicts } from '../components/Verdicts';
import { useNow } from '../components/useNow';
import { when } from '../words';
import { Scroll } from '../components/Scroll';

/** For who has only a CSR: pasted or taken from a file, judged as it stands, with names that it lacks. */
export function BringRequest() {
  const now = useNow();
  const go = useNavigate();
  const [csr, setCsr] = useState('');
  const [more, setMore] = useState('');
  const [profile, setProfile] = useState('server');
  const profiles = useQuery({
    queryKey: ['profiles'],
    queryFn: () => take(api.GET('/api/v1/profiles')),
  });
  const wish: NewRequest = {
    host: null,
    profile,
    names: more.split(/\s+/).filter(Boolean),
    subject: null,
    certificate: null,
    key: null,
    life: null,
    csr,
    bindTo: [],
    port: null,
    renewAfter: null,
    note: null,
  };
  const [asked] = useDebouncedValue(JSON.stringify(wish), 300);
  const preview = useQuery({
    queryKey: ['preview', asked],
    queryFn: () => take(api.POST('/api/v1/requests/preview', { body: JSON.parse(asked) as NewRequest })),
    enabled: csr.trim() !== '' && (JSON.parse(asked) as NewRequest).csr !== '',
    placeholderData: keepPreviousData,
  });
  const submit = useMutation({
    mutationFn: () =>
      take(api.POST('/api/v1/requests', { body: wish, headers: { 'Idempotency-Key': crypto.randomUUID() } })),
    onSuccess: (r) => go(`/requests/${r.number}`),
  });
  if (!profiles.data) return <Loader aria-label="Loading" />;
  const p = csr.trim() ? preview.data : undefined;
  const fits = JSON.stringify(wish) === asked && !preview.isFetching && !preview.error;
  return (
    <Stack gap="md">
      <Group align="baseline" gap="md">
        <Title order={2} fz={22}>
          Bring a CSR
        </Title>
        <Text size="sm" c="dimmed">
          when the key is on a machine without an agent; else <Link to="/new">let the host make it</Link>
        </Text>
      </Group>
      <section className="sheet">
        <Stack gap="sm">
          <Textarea
            label="Certification request, in PEM"
            autosize
            minRows={5}
            maxRows={10}
            spellCheck={false}
            classNames={{ input: 'mono' }}
            placeholder="-----BEGIN CERTIFICATE REQUEST-----"
            value={csr}
            onChange={(e) => {
              setCsr(e.currentTarget.value);
            }}
          />
          <Group align="flex-end" gap="md">
            <FileButton
              inputProps={{ 'aria-label': 'File with a CSR' }}
              onChange={(file) => {
                // A file in DER is carried as bare Base64.
                void file?.arrayBuffer().then((bytes) => {
                  const octets = new Uint8Array(bytes);
                  setCsr(
                    octets[0] === 0x30
                      ? btoa(Array.from(octets, (b) => String.fromCharCode(b)).join(''))
                      : new TextDecoder().decode(bytes),
                  );
                });
              }}
            >
              {(props) => (
                <Button variant="default" {...props}>
                  From a file
                </Button>
              )}
            </FileButton>
            <Select
              label="Profile"
              w={330}
              allowDeselect={false}
              data={profiles.data
                .filter((x) => x.forPeople && x.offered && x.forYou)
                .map((x) => ({ value: x.id, label: `${x.title} · ${x.life}` }))}
              value={profile}
              onChange={(v) => {
                setProfile(v ?? 'server');
              }}
            />
            <Textarea
              label="Names that it lacks, one to a line"
              w={330}
              autosize
              spellCheck={false}
              value={more}
              onChange={(e) => {
                setMore(e.currentTarget.value);
              }}
            />
            <Button
              disabled={!p || !fits || p.overall === 'refused'}
              loading={submit.isPending}
              onClick={() => {
                submit.mutate();
              }}
            >
              Submit
            </Button>
          </Group>
        </Stack>
      </section>
      {submit.error && <Failure error={submit.error} />}
      {csr.trim() && preview.error && <Failure error={preview.error} />}
      {p && (
        <Scroll className="sheet" label="Preview">
          <VerdictState verdict={p.overall} said={p.outcome} />
          <Verdicts verdicts={p.verdicts} />
          {p.findings.map((f) => (
            <Text size="sm" key={`${f.code} ${f.subject}`}>
              {f.message} <span className="dim">{f.cure}</span>
            </Text>
          ))}
          {p.warnings.map((w) => (
            <Text size="sm" key={w}>
              {w}
            </Text>
          ))}
          {p.certificate && (
            <Facts
              rows={[
                ['Subject', p.certificate.subject],
                ['Issuer', p.certificate.issuer],
                ['Expires', when(p.certificate.notAfter, now)],
                ['Key', p.certificate.key],
                ['Usage', [...p.certificate.keyUsage, ...p.certificate.extendedKeyUsage].join(', ')],
              ]}
            />
          )}
        </Scroll>
      )}
      <CommandLine command={`beacon request new --csr FILE --profile ${profile} --preview`} />
    </Stack>
  );
}
