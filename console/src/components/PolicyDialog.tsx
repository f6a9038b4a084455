import { useState } from 'react';
import { Button, Group, Modal, NumberInput, Stack, Switch, Text } from '@mantine/core';
import { useMutation, useQueryClient } from '@tanstack/react-query';
import { api, take, type CertificateInfo } from '../api/client';
import { shellWord } from '../words';
import { CommandLine, Failure } from './Bits';

/** When a certificate renews itself, or that it does not. A change by somebody else meanwhile is said, and nothing is overwritten. */
export function PolicyDialog({ certificate: c, close }: { certificate: CertificateInfo; close: () => void }) {
  const cache = useQueryClient();
  const [automatic, setAutomatic] = useState(c.policy.automatic);
  const [percent, setPercent] = useState<number | string>(Math.round(c.policy.after * 100));
  const after = Number(percent) / 100;
  const fits = after >= 0.05 && after <= 0.95;
  const save = useMutation({
    mutationFn: () =>
      take(
        api.PUT('/api/v1/certificates/{name}/policy', {
          params: { path: { name: c.name } },
          body: { after, newKey: true, automatic },
          headers: { 'If-Match': `"${c.version}"` },
        }),
      ),
    onSuccess: () => {
      close();
      return cache.invalidateQueries({ queryKey: ['certificate', c.name] });
    },
  });
  return (
    <Modal
      opened
      onClose={close}
      title={`Renewal of ${c.name}`}
      centered
      closeButtonProps={{ 'aria-label': 'Close' }}
    >
      <form
        onSubmit={(e) => {
          e.preventDefault();
          save.mutate();
        }}
      >
        <Stack gap="sm">
          <Switch
            label="Renewed by itself"
            checked={automatic}
            onChange={(e) => {
              setAutomatic(e.currentTarget.checked);
            }}
          />
          <NumberInput
            label="After this part of its life"
            description="67 % is usual; what is left is the time to fix what fails."
            suffix=" %"
            min={5}
            max={95}
            value={percent}
            onChange={setPercent}
            error={fits ? null : 'Give 5 to 95 %.'}
          />
          {!automatic && (
            <Text size="sm">
              Nobody renews it then: it is called out some weeks before its end, and at its end.
            </Text>
          )}
          <CommandLine
            command={`beacon cert policy ${shellWord(c.name)} --after ${after.toFixed(2)} ${automatic ? '--automatic true' : '--automatic false'}`}
          />
          {save.error && <Failure error={save.error} />}
          <Group justify="flex-end">
            <Button variant="default" onClick={close}>
              Leave it as it is
            </Button>
            <Button type="submit" disabled={!fits} loading={save.isPending}>
              Save
            </Button>
          </Group>
        </Stack>
      </form>
    </Modal>
  );
}
