import { useState } from 'react';
import { Button, Group, Loader, Modal, Stack, Text, TextInput, Title } from '@mantine/core';
import { useDisclosure } from '@mantine/hooks';
import { useMutation, useQuery, useQueryClient } from '@tanstack/react-query';
import { Link } from 'react-router';
import { api, take, type HostInfo, type ServiceInfo } from '../api/client';
import { BindDialog, type Binding } from '../components/BindDialog';
import { CommandLine, Failure } from '../components/Bits';
import { State } from '../components/State';
import { useNow } from '../components/useNow';
import { shortHost, when } from '../words';

export function HostState({ host }: { host: HostInfo }) {
  if (host.state === 'invited') return <State severity="soon" word="invited" />;
  if (host.problem) return <State severity="now" word="problem" />;
  return host.online ? <State severity="fine" word="here" /> : <State severity="now" word="away" />;
}

export function Hosts() {
  const now = useNow();
  const [search, setSearch] = useState('');
  const hosts = useQuery({ queryKey: ['hosts'], queryFn: () => take(api.GET('/api/v1/hosts')) });
  const services = useQuery({ queryKey: ['services'], queryFn: () => take(api.GET('/api/v1/services')) });
  const error = hosts.error ?? services.error;
  if (error) return <Failure error={error} />;
  if (!hosts.data || !services.data) return <Loader aria-label="Loading" />;
  const t = search.trim().toLowerCase();
  const fits = (h: HostInfo) =>
    !t ||
    h.name.includes(t) ||
    services.data.some((s) => s.host === h.name && s.names.some((n) => n.includes(t)));
  return (
    <Stack gap="md">
      <Group justify="space-between">
        <Title order={2} fz={22}>
          Hosts and services
        </Title>
        <Group gap="xs">
          <TextInput
            size="xs"
            w={240}
            aria-label="Find hosts and services"
            placeholder="Part of a name"
            value={search}
            onChange={(e) => {
              setSearch(e.currentTarget.value);
            }}
          />
          <Invite now={now} />
        </Group>
      </Group>
      {hosts.data.length === 0 && (
        <div className="sheet">
          No host has joined yet. Invite one; its agent finds the services by itself.
        </div>
      )}
      {hosts.data.filter(fits).map((h) => (
        <section key={h.name} className="sheet scroll" aria-label={h.name}>
          <Group justify="space-between" mb={4}>
            <Group gap="md">
              <Link to={`/hosts/${h.name}`} className="name">
                {h.name}
              </Link>
              <HostState host={h} />
            </Group>
            <Text size="xs" c="dimmed">
              {h.lastSeen
                ? `seen ${when(h.lastSeen, now)} · agent ${h.agentVersion ?? ''}`
                : 'its agent has not joined yet'}
            </Text>
          </Group>
          {h.problem && (
            <div role="status">
              <State severity="now" word={h.problem.message} /> <span className="dim">{h.problem.cure}</span>
            </div>
          )}
          <ServiceTable services={services.data.filter((s) => s.host === h.name)} now={now} />
        </section>
      ))}
      <CommandLine command="beacon service list" />
    </Stack>
  );
}

export function ServiceTable({ services, now }: { services: ServiceInfo[]; now: number }) {
  const [binding, setBinding] = useState<Binding | null>(null);
  if (services.length === 0) return <Text size="sm">No service was found there yet.</Text>;
  return (
    <>
      {binding && (
        <BindDialog
          binding={binding}
          close={() => {
            setBinding(null);
          }}
        />
      )}
      <table className="rows">
        <thead>
          <tr>
            <th scope="col">Service</th>
            <th scope="col">State</th>
            <th scope="col">Endpoints</th>
            <th scope="col">Certificate</th>
            <th scope="col">Ends</th>
          </tr>
        </thead>
        <tbody>
          {services.map((s) => (
            <tr key={s.name}>
              <td>
                <span className="name">{s.name}</span>
                <div className="dim">
                  {s.connector}
                  {s.names.length > 1 ? ` · ${s.names.slice(1).join(', ')}` : ''}
                </div>
              </td>
              <td>
                <State severity={s.severity} word={s.state} />
                {s.look?.problems[0] && <div className="dim">{s.look.problems[0].reason}</div>}
              </td>
              <td className="nowrap">
                {s.endpoints.map((e) => (
                  <div key={`${e.address}:${e.port}`}>
                    {e.address}:{e.port} <span className="dim">{wayIn(e)}</span>
                  </div>
                ))}
              </td>
              <td>
                {s.binding ? (
                  <Link to={`/certificates/${encodeURIComponent(s.binding.certificate)}`}>
                    {s.binding.certificate}
                  </Link>
                ) : (
                  <Link to={`/new?host=${s.host}&service=${encodeURIComponent(s.name)}`}>
                    {s.look?.served ? 'not managed: request one' : 'none: request one'}
                  </Link>
                )}
                <Group gap={4} mt={2}>
                  <Button
                    size="compact-xs"
                    variant="default"
                    aria-label={`Bind a certificate to ${s.name}`}
                    onClick={() => {
                      setBinding({ service: s, takeOut: false });
                    }}
                  >
                    Bind …
                  </Button>
                  {s.binding && (
                    <Button
                      size="compact-xs"
                      variant="default"
                      aria-label={`Take the certificate out of ${s.name}`}
                      onClick={() => {
                        setBinding({ service: s, takeOut: true });
                      }}
                    >
                      Take out …
                    </Button>
                  )}
                </Group>
              </td>
              <td className="nowrap">{when(s.look?.served?.notAfter, now)}</td>
            </tr>
          ))}
        </tbody>
      </table>
    </>
  );
}

const ways: Record<string, string> = {
  tls: 'TLS',
  smtp: 'SMTP, STARTTLS',
  imap: 'IMAP, STARTTLS',
  pop3: 'POP3, STLS',
  postgresql: 'PostgreSQL, TLS',
};

/** How clients come to TLS at an endpoint, and whether they can do without. */
function wayIn(e: ServiceInfo['endpoints'][number]): string {
  if (!e.tls) return 'plain';
  const way = ways[e.protocol ?? 'tls'] ?? 'TLS';
  return e.clearText ? `${way} or clear text` : way;
}

function Invite({ now }: { now: number }) {
  const [opened, { open, close }] = useDisclosure();
  const [name, setName] = useState('');
  const cache = useQueryClient();
  const invite = useMutation({
    mutationFn: () => take(api.POST('/api/v1/hosts', { body: { name: name.trim() } })),
    onSuccess: () => cache.invalidateQueries({ queryKey: ['hosts'] }),
  });
  return (
    <>
      <Button size="xs" onClick={open}>
        Invite a host
      </Button>
      <Modal
        opened={opened}
        onClose={close}
        title="Invite a host"
        centered
        size="lg"
        closeButtonProps={{ 'aria-label': 'Close' }}
      >
        <form
          onSubmit={(e) => {
            e.preventDefault();
            invite.mutate();
          }}
        >
          <Stack>
            <TextInput
              label="Its full name"
              placeholder="web03.thistledown.example"
              data-autofocus
              value={name}
              onChange={(e) => {
                setName(e.currentTarget.value);
              }}
            />
            {invite.error && <Failure error={invite.error} />}
            {invite.data && (
              <div>
                <Text size="sm">
                  The code is good once, until {when(invite.data.until, now)}. It is shown only now:
                </Text>
                <Text className="mono" my="xs">
                  {invite.data.code}
                </Text>
                <Text size="sm">On {shortHost(invite.data.name)}, run this and paste the code:</Text>
                <CommandLine command={invite.data.command} />
              </div>
            )}
            <Group justify="flex-end">
              <Button variant="default" onClick={close}>
                Close
              </Button>
              <Button type="submit" loading={invite.isPending}>
                Make a join code
              </Button>
            </Group>
          </Stack>
        </form>
      </Modal>
    </>
  );
}
