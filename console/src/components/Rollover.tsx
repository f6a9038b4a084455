import { useState } from 'react';
import { Button, Group, List, Modal, Stack, Text, Textarea } from '@mantine/core';
import { useMutation, useQueryClient } from '@tanstack/react-query';
import { api, take, type CertificateInfo, type RolloverInfo } from '../api/client';
import { clock, shellWord } from '../words';
import { CommandLine, Failure } from './Bits';
import { Offered } from './Offered';
import { State } from './State';

const told = (r: RolloverInfo, byHand: boolean): string => {
  switch (r.step) {
    case 'adding':
      return byHand
        ? 'The next key is made and waits for DNS. Add to the zone; it continues by itself:'
        : 'The next key is made; its TLSA records are being added to DNS.';
    case 'waiting':
      return `The records of the next key are in DNS. Others may keep the set before until ${r.until ? clock(r.until) : 'later'} UTC; then it is issued.`;
    case 'swapping':
      return 'The records of the next key are out; it is being put in.';
    case 'removing':
      return byHand
        ? 'The new key is served. Bring the zone up to date:'
        : 'The new key is served; the records of the key before are being removed from DNS.';
    default:
      return 'DNS speaks of its key.';
  }
};

/** What a certificate's next key waits for, where TLSA records in DNS speak of it. */
export function Rollover({
  certificate,
  rollover,
}: {
  certificate: CertificateInfo;
  rollover: RolloverInfo;
}) {
  const [hurried, setHurried] = useState(false);
  const byHand = rollover.isByHand === true;
  const waits = rollover.step === 'adding' || rollover.step === 'waiting';
  return (
    <section className="sheet" role="status" aria-label="The next key and DNS">
      {hurried && (
        <GoOn
          name={certificate.name}
          close={() => {
            setHurried(false);
          }}
        />
      )}
      <State severity={byHand || rollover.problem ? 'soon' : 'fine'} word={told(rollover, byHand)} />
      {rollover.toDo.length > 0 && (
        <List size="sm" mt={4} listStyleType="none">
          {rollover.toDo.map((t) => (
            <List.Item key={t.line}>
              {rollover.step === 'removing' && (t.isAdded ? 'add ' : 'remove ')}
              <code className="mono">{t.line}</code>
            </List.Item>
          ))}
        </List>
      )}
      {rollover.problem && <Text size="sm">{rollover.problem}</Text>}
      {rollover.foreign.length > 0 && (
        <div className="dim">Not known here, and left as they are: {rollover.foreign.join('; ')}</div>
      )}
      {waits && (
        <Offered operation="skipRecords" denied={certificate.denied}>
          <Button
            mt={6}
            size="compact-xs"
            variant="default"
            onClick={() => {
              setHurried(true);
            }}
          >
            It cannot wait …
          </Button>
        </Offered>
      )}
    </section>
  );
}

/** Has the next key put in at once, whatever DNS says. */
function GoOn({ name, close }: { name: string; close: () => void }) {
  const cache = useQueryClient();
  const [reason, setReason] = useState('');
  const go = useMutation({
    mutationFn: () =>
      take(
        api.POST('/api/v1/certificates/{name}/rollover/skip', {
          params: { path: { name } },
          body: { reason },
        }),
      ),
    onSuccess: () => {
      close();
      return cache.invalidateQueries({ queryKey: ['certificate', name] });
    },
  });
  return (
    <Modal
      opened
      onClose={close}
      title={`Put in the next key of ${name}`}
      centered
      closeButtonProps={{ 'aria-label': 'Close' }}
    >
      <form
        onSubmit={(e) => {
          e.preventDefault();
          go.mutate();
        }}
      >
        <Stack gap="sm">
          <Text size="sm">
            Servers and programs that go by DNS refuse it until its record is there and what they have kept is
            over: their mail waits meanwhile, or goes back.
          </Text>
          <Textarea
            label="Reason"
            description="The journal keeps it."
            required
            value={reason}
            onChange={(e) => {
              setReason(e.currentTarget.value);
            }}
          />
          <CommandLine
            command={`beacon cert go-on ${shellWord(name)} --reason ${shellWord(reason || 'TEXT')}`}
          />
          {go.error && <Failure error={go.error} />}
          <Group justify="flex-end">
            <Button variant="default" onClick={close}>
              Cancel
            </Button>
            <Button type="submit" loading={go.isPending} disabled={reason.trim() === ''}>
              Put it in now
            </Button>
          </Group>
        </Stack>
      </form>
    </Modal>
  );
}
