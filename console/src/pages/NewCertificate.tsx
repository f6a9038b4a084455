import { useState } from 'react';
import {
  ActionIcon,
  Button,
  Checkbox,
  Group,
  Loader,
  Select,
  SimpleGrid,
  Stack,
  Text,
  TextInput,
  Title,
} from '@mantine/core';
import { useDebouncedValue } from '@mantine/hooks';
import { IconArrowUp, IconX } from '@tabler/icons-react';
import { keepPreviousData, useMutation, useQuery } from '@tanstack/react-query';
import { Link, useNavigate, useSearchParams } from 'react-router';
import { api, take, type HostDetail, type NewRequest, type RequestPreview } from '../api/client';
import { CommandLine, Facts, Failure } from '../components/Bits';
import { Compose } from '../components/Compose';
import { LeaveOut } from '../components/LeaveOut';
import { NotOffered } from '../components/Offered';
import { isDenied, useDenied } from '../components/session';
import { unsaid } from '../components/unsaid';
import { State, VerdictState } from '../components/State';
import { useOnceKey } from '../components/useOnceKey';
import { useNow } from '../components/useNow';
import { shellWord, shortHost, when } from '../words';

const requesting = { submitRequest: 'request certificates here' };

const wishOf = (
  host: string,
  names: string[],
  bindTo: string[],
  profile: string,
  key: string | null,
  label: string,
  outside: string,
): NewRequest => ({
  host,
  profile,
  names: names.map((n) => n.trim()).filter((n) => n),
  subject: null,
  certificate: label.trim() || null,
  key,
  life: null,
  csr: null,
  bindTo,
  port: null,
  renewAfter: null,
  note: null,
  outside: outside || null,
});

/** What a key costs the servers that use it, and who cannot use it. */
const keyWords: Record<string, string> = {
  'ec-p256': 'quick; every current client',
  'ec-p384': 'some three times the work of ec-p256',
  'rsa-2048': 'a good ten times the work of ec-p256; for old clients',
  'rsa-3072': 'three times the work of rsa-2048',
  'rsa-4096': 'seven times the work of rsa-2048; handshakes get slow',
};

export function NewCertificate() {
  const denied = useDenied();
  const [params] = useSearchParams();
  const [part, setPart] = useState('');
  const [asked] = useDebouncedValue(part.trim(), 250);
  const hosts = useQuery({
    queryKey: ['hosts', 'pick', asked],
    queryFn: () => take(api.GET('/api/v1/hosts', { params: { query: { search: asked, take: 50 } } })),
    placeholderData: keepPreviousData,
  });
  const profiles = useQuery({
    queryKey: ['profiles'],
    queryFn: () => take(api.GET('/api/v1/profiles')),
    staleTime: 600_000,
  });
  const [host, setHost] = useState(params.get('host') ?? '');
  const detail = useQuery({
    queryKey: ['host', host],
    queryFn: () => take(api.GET('/api/v1/hosts/{name}', { params: { path: { name: host } } })),
    enabled: host !== '',
  });
  if (hosts.error) return <Failure error={hosts.error} />;
  if (!hosts.data || !profiles.data) return <Loader aria-label="Loading" />;
  const joined = hosts.data.items.filter((h) => h.state === 'joined' && !isDenied('submitRequest', h.denied));
  const mayNot = isDenied('submitRequest', denied);
  const isNoneThere = joined.length === 0 && !part && !host;
  const choices = joined.map((h) => ({ value: h.name, label: h.online ? h.name : `${h.name} (away)` }));
  return (
    <Stack gap="md">
      <Group align="baseline" gap="md">
        <Title order={2} fz={22}>
          New certificate
        </Title>
        <Text size="sm" c="dimmed">
          its key is made on the host; for one that is elsewhere, <Link to="/new/csr">bring a CSR</Link>
        </Text>
      </Group>
      <NotOffered denied={denied} actions={requesting} />
      {!mayNot && <NotOffered denied={detail.data?.host.denied} actions={requesting} />}
      {!mayNot && isNoneThere && (
        <div className="sheet">
          <Text size="sm">
            Keys are made on the host that uses them, so a host of yours has to join first.
          </Text>
          <CommandLine command="beacon host invite NAME" />
        </div>
      )}
      {!mayNot && !isNoneThere && (
        <Select
          label="Host"
          description="It makes the key, and keeps it"
          w={330}
          placeholder="Choose a host, or type part of its name"
          searchable
          nothingFoundMessage="No host has that in its name."
          onSearchChange={(text) => {
            setPart(text === host ? '' : text);
          }}
          data={
            !host || choices.some((c) => c.value === host)
              ? choices
              : [{ value: host, label: host }, ...choices]
          }
          value={host || null}
          allowDeselect={false}
          onChange={(v) => {
            setHost(v ?? '');
          }}
        />
      )}
      {detail.data && !mayNot && !isDenied('submitRequest', detail.data.host.denied) && (
        <Wish
          key={host}
          host={detail.data}
          first={params.get('service') ?? ''}
          profiles={profiles.data
            .filter((p) => p.forPeople && p.offered && p.forYou)
            .map((p) => ({
              value: p.id,
              label: `${p.title} · ${p.life}`,
              keys: p.keys,
              releaseTo: p.releaseTo ?? [],
            }))}
        />
      )}
      {detail.error && <Failure error={detail.error} />}
    </Stack>
  );
}

/** A service with those of its host that clients call by the same name and that have no certificate of ours. */
function together(host: HostDetail, first: string): string[] {
  const name = host.services.find((s) => s.name === first)?.names[0];
  const others = host.services.filter((s) => !s.binding && name && s.names[0] === name).map((s) => s.name);
  return first ? [...new Set([first, ...others])] : [];
}

interface ProfileChoice {
  value: string;
  label: string;
  keys: string[];
  releaseTo: string[];
}

function Wish({ host, first, profiles }: { host: HostDetail; first: string; profiles: ProfileChoice[] }) {
  const now = useNow();
  const go = useNavigate();
  const [names, setNames] = useState<string[]>(() => {
    const site = host.services.find((s) => s.name === first);
    return site ? [...site.names, ''] : [''];
  });
  // Servers that clients call by one name, as those of a mail host, want one certificate together.
  const [bindTo, setBindTo] = useState<string[]>(() => together(host, first));
  const [profile, setProfile] = useState('server');
  const [key, setKey] = useState<string | null>(null);
  const [label, setLabel] = useState('');
  const [outside, setOutside] = useState('');
  const authorities = useQuery({
    queryKey: ['outside'],
    queryFn: () => take(api.GET('/api/v1/outside')),
    staleTime: 600_000,
  });
  const [leaveOut, setLeaveOut] = useState<string[]>([]);
  const wish = wishOf(host.host.name, names, bindTo, profile, key, label, outside);
  const [asked] = useDebouncedValue(JSON.stringify(wish), 250);
  const any = (wish.names ?? []).length > 0;
  const preview = useQuery({
    queryKey: ['preview', asked],
    queryFn: () => take(api.POST('/api/v1/requests/preview', { body: JSON.parse(asked) as NewRequest })),
    enabled: any && (JSON.parse(asked) as NewRequest).names?.length !== 0,
    placeholderData: keepPreviousData,
  });
  const missing = unsaid(preview.data?.uncovered, leaveOut);
  const meant = { ...wish, leaveOut };
  const onceKey = useOnceKey(JSON.stringify(meant));
  const submit = useMutation({
    mutationFn: () =>
      take(api.POST('/api/v1/requests', { body: meant, headers: { 'Idempotency-Key': onceKey() } })),
    onSuccess: (r) => go(`/requests/${r.number}`),
  });
  const verdictOf = (text: string) =>
    preview.data?.verdicts.find((v) => v.name === text.trim().toLowerCase() || v.name === text.trim());
  const command = [
    'beacon request new --host',
    shortHost(host.host.name),
    ...(wish.names ?? []).map((n) => `--name ${shellWord(n)}`),
    ...bindTo.map((b) => `--bind-to ${shellWord(b)}`),
    ...leaveOut.map((n) => `--leave-out ${shellWord(n)}`),
    profile === 'server' ? '' : `--profile ${profile}`,
    outside && `--outside ${shellWord(outside)}`,
    '--preview',
  ]
    .filter((p) => p)
    .join(' ');
  const setName = (i: number, value: string) => {
    const next = names.map((n, j) => (j === i ? value : n));
    // There is always one empty line to go on with.
    if (next.at(-1)?.trim()) next.push('');
    setNames(next);
  };
  return (
    <form
      onSubmit={(e) => {
        e.preventDefault();
        submit.mutate();
      }}
    >
      <SimpleGrid cols={{ base: 1, md: 2 }} spacing="md">
        <Stack gap="md">
          <Compose
            host={host.host.name}
            services={host.services.map((s) => s.name)}
            take={(proposed, services) => {
              setNames([...proposed, '']);
              setBindTo(services);
            }}
          />
          <section className="sheet" aria-label="Names">
            <Title order={3} fz="md">
              Names that clients connect to
            </Title>
            <Text size="xs" c="dimmed">
              The first is the common name too. All of them are alternative names, which is what clients look
              at.
            </Text>
            <Stack gap={6}>
              {names.map((n, i) => {
                const v = n.trim() ? verdictOf(n) : undefined;
                return (
                  <div key={i}>
                    <Group gap="xs" wrap="nowrap">
                      <TextInput
                        size="xs"
                        flex={1}
                        aria-label={`Name ${i + 1}`}
                        placeholder={i === 0 ? 'booking.thistledown.example' : 'one more name'}
                        value={n}
                        spellCheck={false}
                        onChange={(e) => {
                          setName(i, e.currentTarget.value);
                        }}
                      />
                      <div style={{ width: 128 }}>{v && <VerdictState verdict={v.verdict} />}</div>
                      <ActionIcon
                        variant="subtle"
                        size="sm"
                        aria-label={`Make name ${i + 1} the common name`}
                        title="Make it the common name"
                        disabled={i === 0 || !n.trim()}
                        onClick={() => {
                          setNames([n, ...names.filter((_, j) => j !== i)]);
                        }}
                      >
                        <IconArrowUp size={14} />
                      </ActionIcon>
                      <ActionIcon
                        variant="subtle"
                        size="sm"
                        aria-label={`Remove name ${i + 1}`}
                        disabled={names.length === 1 || !n}
                        onClick={() => {
                          setNames(names.filter((_, j) => j !== i));
                        }}
                      >
                        <IconX size={14} />
                      </ActionIcon>
                    </Group>
                    {v && (
                      <Text size="xs" c="dimmed">
                        {v.evidence} {v.cure}
                      </Text>
                    )}
                  </div>
                );
              })}
            </Stack>
          </section>
          <section className="sheet">
            <Title order={3} fz="md">
              Put it into
            </Title>
            <Checkbox.Group value={bindTo} onChange={setBindTo} aria-label="Services to bind">
              <Stack gap={6}>
                {host.services.map((s) => (
                  <Checkbox
                    key={s.name}
                    size="xs"
                    value={s.name}
                    label={
                      <>
                        {s.name}{' '}
                        <span className="dim">
                          {s.binding && s.binding.certificate !== label
                            ? `has ${s.binding.certificate} now`
                            : s.state}
                        </span>
                      </>
                    }
                  />
                ))}
                {host.services.length === 0 && (
                  <Text size="sm">
                    Its agent has found no service yet; the certificate goes into the store.
                  </Text>
                )}
              </Stack>
            </Checkbox.Group>
          </section>
          <section className="sheet">
            <Group grow>
              <Select
                size="xs"
                label="Profile"
                data={profiles}
                value={profile}
                allowDeselect={false}
                onChange={(v) => {
                  setProfile(v ?? 'server');
                  setKey(null);
                }}
              />
              <Select
                size="xs"
                label="Key"
                placeholder="ec-p256"
                clearable
                data={(profiles.find((p) => p.value === profile)?.keys ?? []).map((k) => ({
                  value: k,
                  label: keyWords[k] ? `${k}: ${keyWords[k]}` : k,
                }))}
                comboboxProps={{ width: 380, position: 'bottom-start' }}
                value={key}
                onChange={setKey}
              />
              <TextInput
                size="xs"
                label="Its name here"
                placeholder={wish.names?.[0] ?? 'the first name'}
                value={label}
                onChange={(e) => {
                  setLabel(e.currentTarget.value);
                }}
              />
            </Group>
            {!!authorities.data?.length && !host.host.device && (
              <Select
                size="xs"
                mt="xs"
                label="Signed by"
                description="One outside is asked by hand: you carry the CSR there and bring the answer"
                data={[
                  { value: '', label: 'our own authority, at once' },
                  ...authorities.data.map((o) => ({ value: o.name, label: `${o.title}, outside, by hand` })),
                ]}
                value={outside}
                allowDeselect={false}
                onChange={(v) => {
                  setOutside(v ?? '');
                }}
              />
            )}
          </section>
        </Stack>
        <section className="sheet" aria-label="Preview" aria-live="polite">
          <Title order={3} fz="md">
            The certificate as it will be
          </Title>
          {!any && (
            <Text size="sm">
              Enter a name: what will be decided about it, and the certificate, appear here. Nothing is
              submitted before you say so.
            </Text>
          )}
          {any && preview.error && <Failure error={preview.error} />}
          {any && !preview.error && preview.data && (
            <>
              <Preview
                data={preview.data}
                now={now}
                releaseTo={profiles.find((p) => p.value === profile)?.releaseTo ?? []}
              />
              <LeaveOut uncovered={preview.data.uncovered ?? []} said={leaveOut} say={setLeaveOut} />
            </>
          )}
          {submit.error && <Failure error={submit.error} />}
          {missing.length > 0 && (
            <Text size="xs" c="dimmed" ta="right">
              Add these names, or say that they are meant to be left out.
            </Text>
          )}
          <Group justify="flex-end" mt="md">
            <Button
              type="submit"
              disabled={!any || !preview.data || preview.data.overall === 'refused' || missing.length > 0}
              loading={submit.isPending}
            >
              {preview.data?.overall === 'needs-approval' ? 'Submit for approval' : 'Submit'}
            </Button>
          </Group>
        </section>
      </SimpleGrid>
      <div style={{ marginTop: 12 }}>
        <CommandLine command={command} />
      </div>
    </form>
  );
}

function Preview({ data, now, releaseTo }: { data: RequestPreview; now: number; releaseTo: string[] }) {
  const c = data.certificate;
  return (
    <>
      <VerdictState verdict={data.overall} said={data.outcome} />
      {data.warnings.map((w) => (
        <div key={w}>
          <State severity="soon" word="" /> {w}
        </div>
      ))}
      {c && (
        <Facts
          rows={[
            ['Names', c.names.map((n) => <div key={n}>{n}</div>)],
            ['Subject', c.subject],
            ['Issuer', c.issuer],
            ['From', data.outside ? null : when(c.notBefore, now)],
            ['Until', data.outside ? `as ${data.outside} decides` : when(c.notAfter, now)],
            [
              'Renewal',
              data.plannedRenewal ? `${when(data.plannedRenewal, now)}, by itself, with a new key` : null,
            ],
            [
              'Key',
              `${c.key}, made on the host; ${releaseTo.length > 0 ? `${releaseTo.join(', ')} may take it out, for a Java service elsewhere or a pair of balancers` : 'it stays there'}`,
            ],
            ['Usage', [...c.keyUsage, ...c.extendedKeyUsage].join(', ')],
            ['Revocation', [...c.crl, ...(c.ocsp ?? [])].join(', ')],
          ]}
        />
      )}
    </>
  );
}
