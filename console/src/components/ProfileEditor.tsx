import { useState } from 'react';
import { Button, Group, Modal, Stack, Text, Textarea, TextInput } from '@mantine/core';
import { useDebouncedValue } from '@mantine/hooks';
import { keepPreviousData, useMutation, useQuery, useQueryClient } from '@tanstack/react-query';
import { api, take } from '../api/client';
import { Failure } from './Bits';

/** A profile's file, judged as it is typed: what is wrong is said at once, what would change is shown before it is saved. */
export function ProfileEditor({ id, yaml, close }: { id: string; yaml: string; close: () => void }) {
  const cache = useQueryClient();
  const [text, setText] = useState(yaml);
  const [asked] = useDebouncedValue(text, 300);
  const judged = useQuery({
    queryKey: ['profile', id, 'preview', asked],
    queryFn: () =>
      take(
        api.POST('/api/v1/profiles/import', { params: { query: { preview: true } }, body: { yaml: asked } }),
      ),
    enabled: asked !== yaml,
    retry: false,
    placeholderData: keepPreviousData,
    gcTime: 0,
  });
  const save = useMutation({
    mutationFn: () => take(api.POST('/api/v1/profiles/import', { body: { yaml: text } })),
    onSuccess: async () => {
      await cache.invalidateQueries({ queryKey: ['profile', id] });
      close();
    },
  });
  const same = text === yaml;
  const isJudged = !same && text === asked && judged.isSuccess && !judged.isPlaceholderData;
  return (
    <Modal
      opened
      onClose={close}
      title={`Change ${id}`}
      size="xl"
      centered
      closeOnClickOutside={false}
      closeButtonProps={{ 'aria-label': 'Close' }}
    >
      <Stack gap="sm">
        <Textarea
          aria-label="The profile's file"
          autosize
          minRows={14}
          maxRows={24}
          spellCheck={false}
          styles={{ input: { fontFamily: 'var(--mantine-font-family-monospace)', fontSize: 12.5 } }}
          value={text}
          onChange={(e) => {
            setText(e.currentTarget.value);
          }}
        />
        <div aria-live="polite">
          {same && (
            <Text size="sm" c="dimmed">
              Nothing is changed yet. What would change appears here; certificates that were issued stay as
              they are.
            </Text>
          )}
          {!same && judged.error && <Failure error={judged.error} />}
          {!same && !judged.error && judged.data && (
            <>
              <Text size="sm" fw={600}>
                Revision {judged.data.revision}:
              </Text>
              {judged.data.changes.map((c) => (
                <Text key={c.field} size="sm" className="mono">
                  {c.field}: <del>{c.before || 'nothing'}</del> → <ins>{c.after || 'nothing'}</ins>
                </Text>
              ))}
            </>
          )}
        </div>
        {save.error && <Failure error={save.error} />}
        <Group justify="flex-end">
          <Button variant="default" onClick={close}>
            Leave it as it is
          </Button>
          <Button
            disabled={!isJudged}
            loading={save.isPending}
            onClick={() => {
              save.mutate();
            }}
          >
            Save
          </Button>
        </Group>
      </Stack>
    </Modal>
  );
}

/** A new profile that begins as another one is. */
export function CopyProfile({ id, close, go }: { id: string; close: () => void; go: (id: string) => void }) {
  const cache = useQueryClient();
  const [name, setName] = useState('');
  const [title, setTitle] = useState('');
  const copy = useMutation({
    mutationFn: () =>
      take(
        api.POST('/api/v1/profiles/{id}/copy', {
          params: { path: { id } },
          body: { id: name.trim(), title: title.trim() || null },
        }),
      ),
    onSuccess: async () => {
      await cache.invalidateQueries({ queryKey: ['profiles'] });
      go(name.trim());
    },
  });
  return (
    <Modal opened onClose={close} title={`Copy ${id}`} centered closeButtonProps={{ 'aria-label': 'Close' }}>
      <form
        onSubmit={(e) => {
          e.preventDefault();
          copy.mutate();
        }}
      >
        <Stack gap="sm">
          <TextInput
            label="Its id"
            description="Lower-case letters, digits and hyphens; it stays."
            placeholder="depot"
            data-autofocus
            value={name}
            onChange={(e) => {
              setName(e.currentTarget.value);
            }}
          />
          <TextInput
            label="Its title"
            placeholder="Server in a depot"
            value={title}
            onChange={(e) => {
              setTitle(e.currentTarget.value);
            }}
          />
          {copy.error && <Failure error={copy.error} />}
          <Group justify="flex-end">
            <Button variant="default" onClick={close}>
              Leave it
            </Button>
            <Button type="submit" disabled={!name.trim()} loading={copy.isPending}>
              Copy
            </Button>
          </Group>
        </Stack>
      </form>
    </Modal>
  );
}
