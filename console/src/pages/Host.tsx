import { Group, Loader, Stack, Text, Title } from '@mantine/core';
import { useQuery } from '@tanstack/react-query';
import { Link, useParams } from 'react-router';
import { api, take, type HostDetail } from '../api/client';
import { CommandLine, Facts, Failure } from '../components/Bits';
import { HostStore } from '../components/HostStore';
import { HostState } from '../components/HostState';
import { Looks } from '../components/Looks';
import { ServiceTable } from '../components/ServiceTable';
import { useNow } from '../components/useNow';
import { shortHost, when } from '../words';
import { Scroll } from '../components/Scroll';

export function Host() {
  const name = useParams().name ?? '';
  const now = useNow();
  const { data, error } = useQuery({
    queryKey: ['host', name],
    queryFn: () => take(api.GET('/api/v1/hosts/{name}', { params: { path: { name } } })),
  });
  if (error && !data) return <Failure error={error} />;
  if (!data) return <Loader aria-label="Loading" />;
  const h = data.host;
  return (
    <Stack gap="md">
      <Group gap="md" align="baseline">
        <Title order={2} fz={22}>
          {h.name}
        </Title>
        <HostState host={h} />
      </Group>
      <section className="sheet">
        <Facts
          rows={[
            ['Last seen', when(h.lastSeen, now)],
            [
              'Device',
              h.device
                ? `${h.device} at ${h.deviceAddress}, reached by the agent of ${shortHost(h.via ?? '')}`
                : null,
            ],
            ['Agent', h.agentVersion],
            [
              'Its certificate',
              h.agentCertificateEnds ? `until ${when(h.agentCertificateEnds, now)}, renewed by itself` : null,
            ],
            ['Addresses', h.addresses.join(', ')],
            ['Problem', h.problem ? `${h.problem.message} ${h.problem.cure}` : null],
          ]}
        />
      </section>
      {h.device ? (
        <section className="sheet">
          <Text size="sm">
            The agent of {shortHost(h.via ?? '')} has its key made there, or makes it where the device cannot,
            and puts the answer in place.{' '}
            <Link to={`/certificates?host=${encodeURIComponent(h.name)}`}>Its certificates</Link>,{' '}
            <Link to={`/new?host=${encodeURIComponent(h.name)}`}>request one for it</Link>.
          </Text>
        </section>
      ) : (
        <Inside data={data} now={now} />
      )}
      <CommandLine command={`beacon host show ${shortHost(h.name)}`} />
    </Stack>
  );
}

/** What its agent found on it. */
function Inside({ data, now }: { data: HostDetail; now: number }) {
  return (
    <>
      <Scroll className="sheet">
        <Title order={3} fz="md">
          Services
        </Title>
        <ServiceTable services={data.services} now={now} />
      </Scroll>
      <HostStore detail={data} now={now} />
      <Scroll className="sheet">
        <Title order={3} fz="md">
          Last looks
        </Title>
        <Looks looks={data.services.flatMap((s) => (s.look ? [s.look] : []))} now={now} />
      </Scroll>
    </>
  );
}
