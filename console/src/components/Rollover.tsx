import { List, Text } from '@mantine/core';
import type { RolloverInfo } from '../api/client';
import { clock } from '../words';
import { CommandLine } from './Bits';
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
        ? 'The new key is served. Remove from the zone what is used no more:'
        : 'The new key is served; the records of the key before are being removed from DNS.';
    default:
      return 'DNS speaks of its key.';
  }
};

/** What a certificate's next key waits for, where TLSA records in DNS speak of it. */
export function Rollover({ rollover, certificate }: { rollover: RolloverInfo; certificate: string }) {
  const byHand = rollover.isByHand === true;
  return (
    <section className="sheet" role="status" aria-label="The next key and DNS">
      <State severity={byHand || rollover.problem ? 'soon' : 'fine'} word={told(rollover, byHand)} />
      {rollover.toDo.length > 0 && (
        <List size="sm" mt={4} listStyleType="none">
          {rollover.toDo.map((t) => (
            <List.Item key={t.line}>
              <code className="mono">{t.line}</code>
            </List.Item>
          ))}
        </List>
      )}
      {rollover.problem && <Text size="sm">{rollover.problem}</Text>}
      {rollover.foreign.length > 0 && (
        <div className="dim">Not known here, and left as they are: {rollover.foreign.join('; ')}</div>
      )}
      {byHand && rollover.step === 'adding' && <CommandLine command={`beacon cert renew ${certificate}`} />}
    </section>
  );
}
