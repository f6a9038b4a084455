import { useState } from 'react';
import { Button, Group, Loader, Modal, Select, SimpleGrid, Stack, Text, Title } from '@mantine/core';
import { useDisclosure } from '@mantine/hooks';
import { useMutation, useQuery, useQueryClient } from '@tanstack/react-query';
import { Link, useParams } from 'react-router';
import { api, take, type CertificateDetail, type CertificateInfo, type Severity } from '../api/client';
import { CommandLine, Facts, Failure } from '../components/Bits';
import { LifeRing } from '../components/LifeRing';
import { Looks } from '../components/Looks';
import { NotOffered, Offered } from '../components/Offered';
import { PolicyDialog } from '../components/PolicyDialog';
import { reasons } from '../components/reasons';
import { OrderProgress } from '../components/OrderProgress';
import { Rollover } from '../components/Rollover';
import { State } from '../components/State';
import { useNow } from '../components/useNow';
import { shortHost, when } from '../words';
import { Scroll } from '../components/Scroll';

/** A state that is not known here counts as the worst. */
function bindingSeverity(state: CertificateInfo['bindings'][number]['state']): Severity {
  if (state === 'serving') return 'fine';
  return state === 'planned' ? 'soon' : 'failed';
}

function renewal(c: CertificateInfo, now: number): string {
  if (!c.planned) return 'nothing renews it';
  const at = when(c.planned, now);
  return c.outside
    ? `${at}: the next key and CSR are made by themselves; somebody carries the CSR to ${c.outside}`
    : `${at}, by itself${c.policy.newKey ? ', with a new key' : ''}`;
}

function BoundToNothing({ certificate: c }: { certificate: CertificateInfo }) {
  if (c.state === 'on its device')
    return <Text size="sm">Its device serves it; it was seen there when it was put in place.</Text>;
  return (
    <Text size="sm">
      {c.host ? 'No service serves it yet. ' : 'It was handed out; no host of ours serves it.'}
      {c.host && <Link to={`/hosts/${c.host}`}>Bind it on {shortHost(c.host)}</Link>}
    </Text>
  );
}

export function Certificate() {
  const name = useParams().name ?? '';
  const now = useNow();
  const { data, error } = useQuery({
    queryKey: ['certificate', name],
    queryFn: () => take(api.GET('/api/v1/certificates/{name}', { params: { path: { name } } })),
  });
  const [changing, policy] = useDisclosure();
  if (error && !data) return <Failure error={error} />;
  if (!data) return <Loader aria-label="Loading" />;
  const c = data.certificate;
  const open = data.orders.find((o) => o.state === 'queued' || o.state === 'taken');
  return (
    <Stack gap="md">
      <Group justify="space-between">
        <Group gap="md" align="center">
          {c.notBefore && c.notAfter && (
            <LifeRing
              notBefore={c.notBefore}
              notAfter={c.notAfter}
              planned={c.planned}
              severity={c.severity}
              now={now}
              size={34}
            />
          )}
          <div>
            <Title order={2} fz={22}>
              {c.name}
            </Title>
            <State severity={c.severity} word={c.state} />
          </div>
        </Group>
        <Actions detail={data} />
      </Group>
      <NotOffered
        denied={c.denied}
        actions={{
          ...(c.host ? { renewCertificate: 'renew it', changePolicy: 'change when it is renewed' } : {}),
          revokeCertificate: 'revoke it',
        }}
      />
      {c.lastError && (
        <div className="sheet" role="status">
          <State severity="failed" word="The last try failed." /> {c.lastError}{' '}
          <span className="dim">{c.retryAt ? `Next try ${when(c.retryAt, now)}.` : ''}</span>
        </div>
      )}
      {c.rollover && <Rollover rollover={c.rollover} certificate={c} />}
      {open && <OrderProgress id={open.id} />}
      <SimpleGrid cols={{ base: 1, md: 2 }} spacing="md">
        <section className="sheet">
          <Group justify="space-between">
            <Title order={3} fz="md">
              What it says
            </Title>
            {c.host && (
              <Offered operation="changePolicy" denied={c.denied}>
                <Button size="compact-xs" variant="default" onClick={policy.open}>
                  Renewal …
                </Button>
              </Offered>
            )}
          </Group>
          {changing && <PolicyDialog certificate={c} close={policy.close} />}
          <Facts
            rows={[
              ['Names', c.names.join(', ')],
              ['Host', c.host ? <Link to={`/hosts/${c.host}`}>{c.host}</Link> : 'none: issued for a CSR'],
              ['Expires', when(c.notAfter, now)],
              ['Renewal', renewal(c, now)],
              ['Subject', data.text?.subject],
              ['Issuer', data.text?.issuer],
              ['Signed by', c.outside ? `${c.outside}, an authority outside` : null],
              ['Key', c.key],
              ['Usage', [...(data.text?.keyUsage ?? []), ...(data.text?.extendedKeyUsage ?? [])].join(', ')],
              ['Serial', <span className="mono">{c.serial}</span>],
              ['SHA-256 fingerprint', <span className="mono">{data.text?.thumbprint}</span>],
              ['Chain', data.chainSteps.map((s) => <div key={s}>{s}</div>)],
            ]}
          />
        </section>
        <Stack gap="md">
          <section className="sheet">
            <Title order={3} fz="md">
              Bound to
            </Title>
            {c.bindings.length === 0 ? (
              <BoundToNothing certificate={c} />
            ) : (
              <table className="rows">
                <tbody>
                  {c.bindings.map((b) => (
                    <tr key={`${b.host}/${b.service}`}>
                      <td className="name">
                        {shortHost(b.host)}/{b.service}
                      </td>
                      <td>
                        <State severity={bindingSeverity(b.state)} word={b.state} />
                        {b.message && <div className="dim">{b.message}</div>}
                        <div className="dim">seen {when(b.seenAt, now)}</div>
                      </td>
                    </tr>
                  ))}
                </tbody>
              </table>
            )}
          </section>
          {data.looks.length > 0 && (
            <section className="sheet">
              <Title order={3} fz="md">
                Last look
              </Title>
              <Looks looks={data.looks} now={now} />
            </section>
          )}
          <Scroll className="sheet">
            <Title order={3} fz="md">
              Editions
            </Title>
            <table className="rows">
              <thead>
                <tr>
                  <th scope="col">Serial</th>
                  <th scope="col">State</th>
                  <th scope="col">Expires</th>
                </tr>
              </thead>
              <tbody>
                {data.editions.slice(0, 8).map((e) => (
                  <tr key={e.serial}>
                    <td className="mono">{e.serial}</td>
                    <td>
                      {e.revokedAt ? (
                        <State
                          severity="now"
                          word={
                            e.revocationReason === 'certificate-hold'
                              ? 'on hold'
                              : `revoked (${e.revocationReason ?? ''})`
                          }
                        />
                      ) : (
                        e.state
                      )}
                    </td>
                    <td className="nowrap">{when(e.notAfter, now)}</td>
                  </tr>
                ))}
              </tbody>
            </table>
            {data.editions.length > 8 && (
              <Text size="xs" c="dimmed">
                and {data.editions.length - 8} older ones
              </Text>
            )}
          </Scroll>
        </Stack>
      </SimpleGrid>
      <CommandLine command={`beacon cert show ${c.name}`} />
    </Stack>
  );
}

function Actions({ detail }: { detail: CertificateDetail }) {
  const { name, host, denied } = detail.certificate;
  const cache = useQueryClient();
  const [asking, ask] = useDisclosure();
  const [reason, setReason] = useState<string | null>('unspecified');
  const path = { params: { path: { name } } };
  const again = () => cache.invalidateQueries({ queryKey: ['certificate', name] });
  const renew = useMutation({
    mutationFn: () => take(api.POST('/api/v1/certificates/{name}/renew', path)),
    onSuccess: again,
  });
  const revoke = useMutation({
    mutationFn: () =>
      take(
        api.POST('/api/v1/certificates/{name}/revoke', {
          ...path,
          body: { reason: reason ?? 'unspecified', serial: null },
        }),
      ),
    onSuccess: () => {
      ask.close();
      return again();
    },
  });
  const held = detail.editions.find((e) => e.state === 'current')?.revocationReason === 'certificate-hold';
  const release = useMutation({
    mutationFn: () =>
      take(api.POST('/api/v1/certificates/{name}/release', { ...path, body: { serial: null } })),
    onSuccess: again,
  });
  return (
    <Stack gap={4} align="flex-end">
      <Group gap="xs">
        {held && (
          <Offered operation="releaseCertificate" denied={denied}>
            <Button
              size="xs"
              loading={release.isPending}
              onClick={() => {
                release.mutate();
              }}
            >
              Release hold
            </Button>
          </Offered>
        )}
        <Button
          component="a"
          href={`/api/v1/certificates/${encodeURIComponent(name)}/export?form=chain`}
          variant="default"
          size="xs"
          download
        >
          Download chain
        </Button>
        {host && (
          <Offered operation="renewCertificate" denied={denied}>
            <Button
              size="xs"
              loading={renew.isPending}
              onClick={() => {
                renew.mutate();
              }}
            >
              Renew now
            </Button>
          </Offered>
        )}
        <Offered operation="revokeCertificate" denied={denied}>
          <Button size="xs" variant="default" onClick={ask.open}>
            Revoke …
          </Button>
        </Offered>
      </Group>
      {release.error && <Failure error={release.error} />}
      {renew.error && <Failure error={renew.error} />}
      <Modal
        opened={asking}
        onClose={ask.close}
        title="Revoke the current edition"
        centered
        closeButtonProps={{ 'aria-label': 'Close' }}
      >
        <Stack>
          <Text size="sm">
            Clients that check revocation refuse it from now on: OCSP says so at the next question, and the
            CRLs are published at once.{' '}
            {reason === 'hold' ? 'A hold can be released again.' : 'This cannot be taken back.'}
            {reason !== 'hold' && detail.certificate.policy.automatic
              ? ' Its successor is made and put in place by itself.'
              : ''}
          </Text>
          <Select label="Reason" allowDeselect={false} value={reason} onChange={setReason} data={reasons} />
          {revoke.error && <Failure error={revoke.error} />}
          <Group justify="flex-end">
            <Button variant="default" onClick={ask.close}>
              Keep it
            </Button>
            <Button
              color="signal.7"
              c="white"
              loading={revoke.isPending}
              onClick={() => {
                revoke.mutate();
              }}
            >
              Revoke
            </Button>
          </Group>
        </Stack>
      </Modal>
    </Stack>
  );
}
