import { useState } from 'react';
import { Button, Group, Loader, Modal, Select, Stack, Text, Textarea, TextInput } from '@mantine/core';
import { useMutation, useQuery, useQueryClient } from '@tanstack/react-query';
import { api, take, type PartnerInfo, type ProviderInfo } from '../api/client';
import { shellWord, shortHost } from '../words';
import { CommandLine, Failure } from './Bits';
import { OrderProgress } from './OrderProgress';
import { PlanView } from './PlanView';
import { useOnceKey } from './useOnceKey';

interface About {
  provider: ProviderInfo;
  close: () => void;
}

const path = (p: ProviderInfo) => ({ params: { path: { number: p.number } } });

function useSeen(p: ProviderInfo, close: () => void) {
  const cache = useQueryClient();
  return async () => {
    close();
    await cache.invalidateQueries({ queryKey: ['federation'] });
    await cache.invalidateQueries({ queryKey: ['federation', String(p.number)] });
  };
}

/** A question with its sentence, its answer, and the command that does the same. */
function Asked({
  title,
  close,
  go,
  word,
  command,
  ready,
  children,
}: {
  title: string;
  close: () => void;
  go: { mutate: () => void; isPending: boolean; error: Error | null };
  word: string;
  command: string;
  ready: boolean;
  children: React.ReactNode;
}) {
  return (
    <Modal
      opened
      onClose={close}
      title={title}
      centered
      size="lg"
      closeButtonProps={{ 'aria-label': 'Close' }}
    >
      <form
        onSubmit={(e) => {
          e.preventDefault();
          go.mutate();
        }}
      >
        <Stack gap="sm">
          {children}
          <CommandLine command={command} />
          {go.error && <Failure error={go.error} />}
          <Group justify="flex-end">
            <Button variant="default" onClick={close}>
              Cancel
            </Button>
            <Button type="submit" loading={go.isPending} disabled={!ready}>
              {word}
            </Button>
          </Group>
        </Stack>
      </form>
    </Modal>
  );
}

function Reason({ text, set }: { text: string; set: (text: string) => void }) {
  return (
    <Textarea
      label="Reason"
      description="The journal keeps it."
      required
      value={text}
      onChange={(e) => {
        set(e.currentTarget.value);
      }}
    />
  );
}

/** Which certificate of its host it signs with from now on. */
export function SignWithDialog({ provider: p, close }: About) {
  const [name, setName] = useState<string | null>(p.certificate);
  const { data } = useQuery({
    queryKey: ['certificates', 'to sign with', p.host],
    queryFn: () => take(api.GET('/api/v1/certificates', { params: { query: { host: p.host, take: 200 } } })),
  });
  const onceDone = useSeen(p, close);
  const go = useMutation({
    mutationFn: () =>
      take(api.PUT('/api/v1/federation/{number}/certificate', { ...path(p), body: { certificate: name } })),
    onSuccess: onceDone,
  });
  const names = (data?.items ?? []).filter((c) => c.key.startsWith('rsa')).map((c) => c.name);
  return (
    <Asked
      title={`What ${p.entity} signs with`}
      close={close}
      go={go}
      word="Begin"
      ready={name !== null}
      command={`beacon federation sign-with ${p.number} ${shellWord(name ?? 'CERTIFICATE')}`}
    >
      <Text size="sm">
        Its edition is published beside what the provider signs with now. It is used when all partners know
        it, or somebody says so; until then nothing changes for anybody.
      </Text>
      {data ? (
        <Select
          label={`A certificate of ${shortHost(p.host)} with an RSA key`}
          data={names}
          value={name}
          onChange={setName}
          nothingFoundMessage="none"
          comboboxProps={{ withinPortal: true }}
        />
      ) : (
        <Loader size="sm" aria-label="Loading" />
      )}
      {data && names.length === 0 && (
        <Text size="sm">
          {shortHost(p.host)} has none with an RSA key. Request one there with the profile federation-signing.
        </Text>
      )}
    </Asked>
  );
}

/** It goes on although partners are not known to have learnt of the next one, after a step back, or after a failure. */
export function GoOnDialog({ provider: p, close }: About) {
  const [reason, setReason] = useState('');
  const [day, setDay] = useState('');
  const isWaiting = p.step === 'waiting';
  const onceDone = useSeen(p, close);
  const go = useMutation({
    mutationFn: () =>
      take(
        api.POST('/api/v1/federation/{number}/go-on', {
          ...path(p),
          body: { reason, at: day ? `${day}:00Z` : null },
        }),
      ),
    onSuccess: onceDone,
  });
  return (
    <Asked
      title={isWaiting ? 'Do not wait for partners' : 'Let it go on'}
      close={close}
      go={go}
      word={day ? 'Go on then' : 'Go on now'}
      ready={reason.trim() !== ''}
      command={`beacon federation go-on ${p.number} --reason ${shellWord(reason || 'TEXT')}${day ? ` --on ${day}` : ''}`}
    >
      {p.breaks.map((b) => (
        <div key={b} role="note">
          ◆ {b}
        </div>
      ))}
      <Reason text={reason} set={setReason} />
      {isWaiting && (
        <TextInput
          type="datetime-local"
          label="Not before (UTC)"
          description="Empty: now."
          value={day}
          onChange={(e) => {
            setDay(e.currentTarget.value);
          }}
        />
      )}
    </Asked>
  );
}

/** The last step is taken back, with what that changes before it. */
export function BackDialog({ provider: p, close }: About) {
  const [reason, setReason] = useState('');
  const act = p.nextSerial === null ? 'publish' : 'withdraw';
  const cache = useQueryClient();
  const plan = useQuery({
    queryKey: ['federation-plan', p.number, act],
    queryFn: () => take(api.POST('/api/v1/federation/{number}/plan', { ...path(p), body: { act } })),
    retry: false,
    staleTime: 0,
    gcTime: 0,
  });
  const onceKey = useOnceKey(act);
  const go = useMutation({
    mutationFn: () =>
      take(
        api.POST('/api/v1/federation/{number}/back', {
          ...path(p),
          body: { reason },
          headers: { 'Idempotency-Key': onceKey() },
        }),
      ),
    onSuccess: () => cache.invalidateQueries({ queryKey: ['federation'] }),
  });
  if (go.data)
    return (
      <Modal
        opened
        onClose={close}
        title="One step back"
        centered
        closeButtonProps={{ 'aria-label': 'Close' }}
      >
        <Stack gap="sm">
          <OrderProgress id={go.data.order} />
          <Group justify="flex-end">
            <Button onClick={close}>Close</Button>
          </Group>
        </Stack>
      </Modal>
    );
  return (
    <Asked
      title="One step back"
      close={close}
      go={go}
      word="Take it back"
      ready={reason.trim() !== '' && plan.data !== undefined}
      command={`beacon federation back ${p.number} --reason ${shellWord(reason || 'TEXT')}`}
    >
      <Text size="sm">Nothing more happens by itself afterwards, until somebody lets it go on.</Text>
      {plan.isPending && <Loader size="sm" aria-label={`Asking ${shortHost(p.host)} what would change`} />}
      {plan.error && <Failure error={plan.error} />}
      {plan.data?.plan && <PlanView plan={plan.data.plan} />}
      <Reason text={reason} set={setReason} />
    </Asked>
  );
}

/** Where a partner fetches metadata from, and whether it knows the next certificate. */
export function PartnerDialog({ provider: p, partner, close }: About & { partner: PartnerInfo }) {
  const [from, setFrom] = useState(partner.addresses.join(' '));
  const [word, setWord] = useState('');
  const addresses = from.split(/[\s,]+/).filter(Boolean);
  const changed = addresses.join(' ') !== partner.addresses.join(' ');
  const onceDone = useSeen(p, close);
  const go = useMutation({
    mutationFn: () =>
      take(
        api.PUT('/api/v1/federation/{number}/partner', {
          ...path(p),
          body: { entity: partner.entity, addresses: changed ? addresses : null, word: word.trim() || null },
        }),
      ),
    onSuccess: onceDone,
  });
  const said = [
    ...(changed ? addresses.map((a) => ` --from ${shellWord(a)}`) : []),
    ...(word.trim() ? [` --word ${shellWord(word.trim())}`] : []),
  ].join('');
  return (
    <Asked
      title={partner.entity}
      close={close}
      go={go}
      word="Keep it"
      ready={changed || word.trim() !== ''}
      command={`beacon federation partner ${p.number} ${shellWord(partner.entity)}${said}`}
    >
      <TextInput
        label="Addresses that it fetches metadata from"
        description="Who comes from one of these in the web server's log is this partner."
        placeholder="192.0.2.7"
        value={from}
        onChange={(e) => {
          setFrom(e.currentTarget.value);
        }}
      />
      {p.also && (
        <Textarea
          label="It knows what is published now"
          description="How you know it, when it has not fetched it by itself. The journal keeps it."
          value={word}
          onChange={(e) => {
            setWord(e.currentTarget.value);
          }}
        />
      )}
    </Asked>
  );
}
