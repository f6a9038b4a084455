import { useState } from 'react';
import { Button, Group, Loader, Stack, Text, Textarea, TextInput, Title } from '@mantine/core';
import { useMutation, useQuery, useQueryClient } from '@tanstack/react-query';
import { Link, useParams } from 'react-router';
import { api, take, type RequestInfo } from '../api/client';
import { CommandLine, Facts, Failure } from '../components/Bits';
import { NotOffered, Offered } from '../components/Offered';
import { isDenied, useSession } from '../components/session';
import { OrderProgress } from '../components/OrderProgress';
import { Prepared } from '../components/Prepared';
import { OutsideRequest } from '../components/OutsideRequest';
import { requestSeverity, requestWord } from '../components/requests';
import { State } from '../components/State';
import { Verdicts } from '../components/Verdicts';
import { useNow } from '../components/useNow';
import { when } from '../words';
import { Scroll } from '../components/Scroll';

export function Request() {
  const id = Number(useParams().number);
  const now = useNow();
  const { data, error } = useQuery({
    queryKey: ['request', id],
    queryFn: () => take(api.GET('/api/v1/requests/{id}', { params: { path: { id } } })),
  });
  if (error && !data) return <Failure error={error} />;
  if (!data) return <Loader aria-label="Loading" />;
  return (
    <Stack gap="md">
      <Group align="baseline" gap="md">
        <Title order={2} fz={22}>
          Request {data.number}
        </Title>
        <State severity={requestSeverity[data.state]} word={requestWord(data)} />
      </Group>
      {data.orderId && data.state !== 'waiting-outside' && <OrderProgress id={data.orderId} />}
      {data.orderId && !data.outside && data.host && (
        <Prepared certificate={data.certificate} request={data.number} />
      )}
      {data.state === 'waiting-outside' && data.outside && <OutsideRequest request={data} />}
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
            ['Subject', data.subject],
            ['Profile', data.profile],
            ['Signed by', data.outside ? `${data.outside}, an authority outside` : null],
            ['Key', data.key],
            [
              'Asked for by',
              `${data.requester}, ${when(data.at, now)}${data.from ? `, from ${data.from}` : ''}`,
            ],
            [
              'Approvals',
              data.needed
                ? `${data.approvals?.length ?? 0} of ${data.needed}${data.approvals?.length ? `: ${data.approvals.map((x) => `${x.by}, ${when(x.at, now)}`).join('; ')}` : ''}`
                : null,
            ],
            ['Differs in', data.differences?.join('; ')],
            ['Bind to', data.bindTo.join(', ')],
            ['Decided by', data.state === 'waiting-for-approval' ? null : data.decidedBy],
            ['Reason', data.reason],
            ['Note', data.note],
          ]}
        />
      </section>
      {data.amendments?.map((m) => (
        <section className="sheet" key={m.at} aria-label="Amended">
          <State severity="soon" word={`${m.by} amended the names: ${m.reason}`} />
          <Text size="sm" className="mono">
            <del>{m.before.join(', ')}</del> → <ins>{m.after.join(', ')}</ins>
          </Text>
        </section>
      ))}
      <Scroll className="sheet">
        <Verdicts verdicts={data.verdicts} />
        {data.findings.map((f) => (
          <Text size="sm" key={`${f.code} ${f.subject}`}>
            {f.message} <span className="dim">{f.cure}</span>
          </Text>
        ))}
      </Scroll>
      {data.state === 'issued' && !data.host && (
        <Group gap="xs" role="group" aria-label="Take it">
          {[
            ['pem', 'Leaf, PEM'],
            ['chain', 'Chain, PEM'],
            ['der', 'Leaf, DER'],
            ['pkcs7', 'PKCS#7, DER'],
            ['pkcs7-pem', 'PKCS#7, PEM'],
          ].map(([form, text]) => (
            <Button
              key={form}
              component="a"
              size="compact-sm"
              variant="default"
              href={`/api/v1/certificates/${encodeURIComponent(data.certificate)}/export?form=${form}${data.serial ? `&serial=${data.serial}` : ''}`}
            >
              {text}
            </Button>
          ))}
        </Group>
      )}
      {data.state === 'waiting-for-approval' && <Decide request={data} />}
      <Withdraw request={data} />
      <CommandLine command={`beacon request show ${data.number}`} />
    </Stack>
  );
}

const decisions = { approveRequest: 'approve it', amendRequest: 'amend it', refuseRequest: 'refuse it' };

/** Its own requester, or an administrator, takes it back. */
function Withdraw({ request }: { request: RequestInfo }) {
  const cache = useQueryClient();
  const me = useSession().data?.name;
  const withdraw = useMutation({
    mutationFn: () =>
      take(api.POST('/api/v1/requests/{id}/withdraw', { params: { path: { id: request.number } } })),
    onSuccess: () => cache.invalidateQueries({ queryKey: ['request', request.number] }),
  });
  if (request.requester !== me || !request.state.startsWith('waiting')) return null;
  return (
    <Offered operation="withdrawRequest" denied={request.denied}>
      <Group>
        <Button
          variant="default"
          loading={withdraw.isPending}
          onClick={() => {
            withdraw.mutate();
          }}
        >
          Withdraw it
        </Button>
        {withdraw.error && <Failure error={withdraw.error} />}
      </Group>
    </Offered>
  );
}

function Decide({ request }: { request: RequestInfo }) {
  const id = request.number;
  const cache = useQueryClient();
  const before = request.verdicts.map((v) => v.name).join('\n');
  const [names, setNames] = useState(before);
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
  const amend = useMutation({
    mutationFn: () =>
      take(
        api.POST('/api/v1/requests/{id}/amend', {
          ...path,
          body: { names: names.split(/\s+/).filter(Boolean), reason },
        }),
      ),
    onSuccess: again,
  });
  const error = approve.error ?? refuse.error ?? amend.error;
  const why = <NotOffered denied={request.denied} actions={decisions} />;
  if (isDenied('refuseRequest', request.denied)) return <section className="sheet">{why}</section>;
  return (
    <section className="sheet">
      {why}
      <Group align="flex-end">
        <Offered operation="approveRequest" denied={request.denied}>
          <Button
            loading={approve.isPending}
            onClick={() => {
              approve.mutate();
            }}
          >
            Approve
          </Button>
        </Offered>
        <TextInput
          label="Reason for refusing or amending; the requester reads it"
          w={400}
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
      {before && !isDenied('amendRequest', request.denied) && (
        <Group align="flex-end" mt="sm">
          <Textarea
            label="Names it shall have, one to a line; judged by the requester's zones"
            w={400}
            autosize
            value={names}
            onChange={(e) => {
              setNames(e.currentTarget.value);
            }}
          />
          <Button
            variant="default"
            disabled={!reason.trim() || names.trim() === before}
            loading={amend.isPending}
            onClick={() => {
              amend.mutate();
            }}
          >
            Amend the names
          </Button>
        </Group>
      )}
      {error && <Failure error={error} />}
    </section>
  );
}
