import { Button, Group, Loader, Stack, Text, Title } from '@mantine/core';
import { useMutation, useQuery, useQueryClient } from '@tanstack/react-query';
import { api, take, type HealthFinding, type HealthReport } from '../api/client';
import { CommandLine, Failure } from '../components/Bits';
import { pointName } from '../components/health';
import { Hierarchy } from '../components/Hierarchy';
import { OutsideAuthorities } from '../components/OutsideAuthorities';
import { State } from '../components/State';
import { useNow } from '../components/useNow';
import { clock, day, when } from '../words';
import { Scroll } from '../components/Scroll';

/** The hierarchy as its clients see it: what is wrong first, then the picture, then every address. */
export function Authorities() {
  const now = useNow();
  const cache = useQueryClient();
  const { data, error } = useQuery({
    queryKey: ['health'],
    queryFn: () => take(api.GET('/api/v1/authorities/health')),
  });
  const look = useMutation({
    mutationFn: () => take(api.POST('/api/v1/authorities/health')),
    onSuccess: (report) => {
      cache.setQueryData(['health'], report);
    },
  });
  if (error && !data) return <Failure error={error} />;
  if (!data) return <Loader aria-label="Looking at every address" />;
  const found = findings(data);
  return (
    <Stack gap="md">
      <Group justify="space-between">
        <Group gap="md" align="baseline">
          <Title order={2} fz={22}>
            Authorities
          </Title>
          <State
            severity={data.severity}
            word={
              data.findings === 0
                ? `all ${data.points} addresses give clients what they should`
                : `${data.findings} ${data.findings === 1 ? 'finding' : 'findings'}`
            }
          />
        </Group>
        <Group gap="sm">
          <Text size="xs" c="dimmed">
            looked {day(data.at).replace(/ \d+$/, '')} {clock(data.at)} UTC
          </Text>
          <Button
            size="compact-sm"
            variant="default"
            loading={look.isPending}
            onClick={() => {
              look.mutate();
            }}
          >
            Look now
          </Button>
        </Group>
      </Group>
      {look.error && <Failure error={look.error} />}
      {found.map(({ where, finding }) => (
        <Finding key={`${where} ${finding.fault}`} where={where} finding={finding} />
      ))}
      <section className="sheet" aria-label="Hierarchy">
        <Hierarchy report={data} now={now} />
      </section>
      <Scroll className="sheet">
        <Addresses report={data} now={now} />
      </Scroll>
      <OutsideAuthorities now={now} />
      <CommandLine command="beacon authority health" />
      <CommandLine command="beacon authority rehearse issuing" />
    </Stack>
  );
}

const weight = { fine: 0, soon: 1, now: 2, failed: 3 };

function findings(report: HealthReport): { where: string; finding: HealthFinding }[] {
  return report.authorities
    .flatMap((a) =>
      a.generations.flatMap((g) => [
        ...g.findings.map((finding) => ({ where: `${a.name}, generation ${g.number}`, finding })),
        ...g.points.flatMap((p) =>
          p.finding ? [{ where: `${pointName(p.kind)} at ${p.uri}`, finding: p.finding }] : [],
        ),
      ]),
    )
    .sort((a, b) => weight[b.finding.severity] - weight[a.finding.severity]);
}

function Finding({ where, finding }: { where: string; finding: HealthFinding }) {
  return (
    <section className="sheet" aria-label={where}>
      <State severity={finding.severity} word={finding.reason} />
      <Text size="xs" c="dimmed" className="mono" my={4}>
        {where}
      </Text>
      <table className="rows">
        <tbody>
          <tr>
            <th scope="row">Likely</th>
            <td>{finding.causes.join(' Or: ')}</td>
          </tr>
          <tr>
            <th scope="row">Hurts</th>
            <td>{finding.hurts}</td>
          </tr>
          <tr>
            <th scope="row">Cure</th>
            <td>{finding.cure}</td>
          </tr>
        </tbody>
      </table>
    </section>
  );
}

function Addresses({ report, now }: { report: HealthReport; now: number }) {
  return (
    <table className="rows" aria-label="Addresses">
      <thead>
        <tr>
          <th scope="col">Address, as it stands in certificates</th>
          <th scope="col">What</th>
          <th scope="col">State</th>
          <th scope="col">Fresh until</th>
          <th scope="col">Written in</th>
        </tr>
      </thead>
      <tbody>
        {report.authorities.flatMap((a) =>
          a.generations.flatMap((g) =>
            g.points.map((p) => (
              <tr
                key={`${a.id} ${g.number} ${p.kind} ${p.uri}`}
                id={encodeURIComponent(`${p.kind} ${p.uri}`)}
              >
                <td className="mono">{p.uri}</td>
                <td className="nowrap">
                  {pointName(p.kind)} of {a.id}, key {g.keyNumber}
                </td>
                <td>
                  <State severity={p.severity} word={p.finding?.fault.replaceAll('-', ' ') ?? 'correct'} />
                </td>
                <td className="nowrap">{when(p.freshUntil, now)}</td>
                <td className="dim">{p.writtenIn}</td>
              </tr>
            )),
          ),
        )}
      </tbody>
    </table>
  );
}
