import { Button, Group, Loader, Stack, Text, Title } from '@mantine/core';
import { useQuery } from '@tanstack/react-query';
import { Link } from 'react-router';
import { api, take, type Concern } from '../api/client';
import { CommandLine, Failure } from '../components/Bits';
import { Lookahead } from '../components/Lookahead';
import { isDenied, useDenied } from '../components/session';
import { State } from '../components/State';
import { useNow } from '../components/useNow';
import { counted, figure, when } from '../words';
import classes from './Today.module.css';

export function Today() {
  const now = useNow();
  const { data, error } = useQuery({
    queryKey: ['today'],
    queryFn: () => take(api.GET('/api/v1/today')),
    refetchInterval: 30_000,
  });
  if (error && !data) return <Failure error={error} />;
  if (!data) return <Loader aria-label="Loading" />;
  const { counts, concerns } = data;
  const next = data.lookahead.items
    .filter((i) => i.planned && Date.parse(i.planned) > now)
    .sort((a, b) => Date.parse(a.planned ?? '') - Date.parse(b.planned ?? ''))[0];
  return (
    <Stack gap="md">
      <Group justify="space-between" align="baseline">
        <Title order={2} fz={22}>
          {counted(concerns.length, 'Nothing needs a hand', 'One thing needs a hand', 'things need a hand')}
        </Title>
        <Text size="sm" c="dimmed">
          {counted(counts.services, 'no service', '1 service', 'services')} on{' '}
          {counted(counts.hosts, 'no host', '1 host', 'hosts')}
          {counts.hostsAway > 0 ? `, ${figure(counts.hostsAway)} away` : ''} ·{' '}
          {counted(counts.certificates, 'no certificate', '1 certificate', 'certificates')}
          {next ? ` · next renewal: ${next.name}, ${when(next.planned, now)}` : ''}
        </Text>
      </Group>
      {counts.hosts === 0 && (
        <div className="sheet">
          <Text>No host has joined yet. Invite one, then start its agent with the code:</Text>
          <CommandLine command="beacon host invite NAME" />
        </div>
      )}
      {concerns.length > 0 && (
        <ul className={classes.list} aria-label="What needs a hand">
          {concerns.map((c) => (
            <ConcernRow key={`${c.kind} ${c.about}`} concern={c} now={now} />
          ))}
        </ul>
      )}
      <section className="sheet">
        <Group justify="space-between" align="baseline" mb={6}>
          <Title order={3} fz="md">
            Lookahead
          </Title>
          <Text size="xs" c="dimmed">
            bar: life · shaded: renewal window · stroke: planned renewal · broken bar: nothing renews it
          </Text>
        </Group>
        <Lookahead data={data.lookahead} now={now} />
      </section>
      <CommandLine command="beacon status" />
    </Stack>
  );
}

function ConcernRow({ concern: c, now }: { concern: Concern; now: number }) {
  const denied = useDenied();
  return (
    <li className={classes.row}>
      <div className={classes.mark}>
        <State severity={c.severity} />
      </div>
      <div className={classes.text}>
        <span className="name">{c.about}</span> <span>{c.reason}</span> <span className="dim">{c.hurts}</span>
        <div className={classes.cure}>
          {c.cure}
          {c.since && now - Date.parse(c.since) > 3_600_000 && (
            <span className="dim"> · since {when(c.since, now)}</span>
          )}
        </div>
      </div>
      {c.link && !(c.link.startsWith('/new') && isDenied('submitRequest', denied)) && (
        <Button
          component={Link}
          to={c.link}
          size="compact-sm"
          variant="filled"
          color="signal.7"
          c="white"
          aria-label={`${c.link.startsWith('/new') ? 'Request' : 'Look'}: ${c.about}`}
        >
          {c.link.startsWith('/new') ? 'Request' : 'Look'}
        </Button>
      )}
    </li>
  );
}
