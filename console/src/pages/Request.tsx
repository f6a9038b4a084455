import { useState } from 'react';
import { Button, Group, Loader, Stack, TextInput, Title } from '@mantine/core';
import { useMutation, useQuery, useQueryClient } from '@tanstack/react-query';
import { Link, useParams } from 'react-router';
import { api, take } from '../api/client';
import { CommandLine, Facts, Failure } from '../components/Bits';
import { OrderProgress } from '../components/OrderProgress';
import { State } from '../components/State';
import { Verdicts } from '../components/Verdicts';
import { useNow } from '../components/useNow';
import { when } from '../words';

const severities = {
  issued: 'fine',
  refused: 'failed',
  'waiting-for-approval': 'soon',
  'waiting-for-host': 'soon',
  'waiting-outside': 'soon',
  draft: 'soon',
  withdrawn: 'fine',
} as const;

export function Request() {
  const id = Number(useParams().number);
  const now = useNow();
  const { data, error } = useQuery({
    queryKey: ['request', id],
    queryFn: () => take(api.GET('/api/v1/requests/{id}', { params: { path: { id } } })),
  });
  if (error) return <Failure error={error} />;
  if (!data) return <Loader aria-label="Loading" />;
  return (
    <Stack gap="md">
      <Group align="baseline" gap="md">
        <Title order={2} fz={22}>
          Request {data.number}
        </Title>
        <State severity={severities[data.state]} word={data.state.replaceAll('-', ' ')} />
      </Group>
      {data.orderId && <OrderProgress id={data.orderId} />}
      <section className="sheet">
        <Facts
          rows={[
            [
              'Certificate',
              data.serial ? (
                <Link to={`/certificates/${encodeURIComponent(data.certificate)}`}>{data.certificate}</Link>
              ) : (
                data.certificate
              ),
            ],
            ['For', data.host ?? 'a CSR'],
            ['Profile', data.profile],
            ['Key', data.key],
            ['Asked for by', `${data.requester}, ${when(data.at, now)}`],
            ['Bind to', data.bindTo.join(', ')],
            ['Decided by', data.decidedBy],
            ['Reason', data.reason],
            ['Note', data.note],
          ]}
        />
      </section>
      <section className="sheet scroll">
        <Verdicts verdicts={data.verdicts} />
      </section>
      {data.state === 'waiting-for-approval' && <Decide id={id} />}
      <CommandLine command={`beacon request show ${data.number}`} />
    </Stack>
  );
}

function Decide({ id }: { id: number }) {
  const cache = useQueryClient();
  const [reason, setReason] = useState('');
  const path = { params: { path: { id } } };
  const again = () => cache.invalidateQueries({ queryKey: ['request', id] });
  const approve = useMutation({
    mutationFn: () => take(api.POST('/api/v1/requests/{id}/approve', path)),
    onSuccess: again,
  });
  const refuse = useMutation({
    mutationFn: () => take(api.POST('/api/v1/requests/{id}/refuse', { ...path, body: { reason } })),
    onSuccess: again,
  });
  const error = approve.error ?? refuse.error;
  return (
    <section className="sheet">
      <Group align="flex-end">
        <Button
          loading={approve.isPending}
          onClick={() => {
            approve.mutate();
          }}
        >
          Approve
        </Button>
        <TextInput
          label="Reason for refusing; the requester reads it"
          w={360}
          value={reason}
          onChange={(e) => {
            setReason(e.currentTarget.value);
          }}
        />
        <Button
          variant="default"
          disabled={!reason.trim()}
          loading={refuse.isPending}
          onClick={() => {
            refuse.mutate();
          }}
        >
          Refuse
        </Button>
      </Group>
      {error && <Failure error={error} />}
    </section>
  );
}
