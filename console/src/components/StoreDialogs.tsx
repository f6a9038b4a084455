import { useState } from 'react';
import {
  Button,
  Checkbox,
  FileInput,
  Group,
  Modal,
  PasswordInput,
  Select,
  Stack,
  Text,
  TextInput,
} from '@mantine/core';
import { useMutation } from '@tanstack/react-query';
import { api, take, type ExportForm, type StoredEntry } from '../api/client';
import { fromBase64, replyKey, seal, toBase64 } from '../api/seal';
import { Failure } from './Bits';
import { commonName } from '../words';

const utf8 = new TextEncoder();
const bytesOf = async (file: File) => toBase64(new Uint8Array(await file.arrayBuffer()));

interface Opened {
  host: string;
  onClose: () => void;
}

export function ImportDialog({
  host,
  sealKey,
  onOrder,
  onClose,
}: Opened & { sealKey: string; onOrder: (order: number) => void }) {
  const [files, setFiles] = useState<File[]>([]);
  const [passphrase, setPassphrase] = useState('');
  const [name, setName] = useState('');
  const [label, setLabel] = useState('');
  const [releasable, setReleasable] = useState(false);
  const go = useMutation({
    mutationFn: async () => {
      const parts = await Promise.all(files.map(async (f) => ({ name: f.name, content: await bytesOf(f) })));
      const content = JSON.stringify({ files: parts, passphrase: passphrase || null, releasable });
      return take(
        api.POST('/api/v1/hosts/{host}/store/import', {
          params: { path: { host } },
          body: {
            sealed: await seal(sealKey, 'orderly-beacon import', utf8.encode(content)),
            certificate: name.trim() || null,
            label: label.trim() || null,
          },
        }),
      );
    },
    onSuccess: (a) => {
      onOrder(a.order);
    },
  });
  return (
    <Modal opened onClose={onClose} title={`Import into the store of ${host}`} size="lg">
      <Stack gap="sm">
        <FileInput
          label="Files"
          description="PKCS#12, PEM, DER, PKCS#7 or a ZIP. Without a key: its key must be on this host already, and they are paired."
          placeholder="Choose files"
          multiple
          value={files}
          onChange={setFiles}
          data-autofocus
        />
        <PasswordInput
          label="Passphrase"
          description="Of the PKCS#12 file or the encrypted key. It is sealed to the host; the service cannot read it."
          autoComplete="off"
          value={passphrase}
          onChange={(e) => {
            setPassphrase(e.currentTarget.value);
          }}
        />
        <Group grow>
          <TextInput
            label="Certificate’s name"
            description="Its first name when left out"
            value={name}
            onChange={(e) => {
              setName(e.currentTarget.value);
            }}
          />
          <TextInput
            label="Label"
            description="For programs that find it by one"
            value={label}
            onChange={(e) => {
              setLabel(e.currentTarget.value);
            }}
          />
        </Group>
        <Checkbox
          label="Its key may leave this host again"
          description="For a Java service elsewhere, or a pair of balancers. Said once; it cannot be changed later."
          checked={releasable}
          onChange={(e) => {
            setReleasable(e.currentTarget.checked);
          }}
        />
        {go.error && <Failure error={go.error} />}
        <Group>
          <Button
            disabled={files.length === 0}
            loading={go.isPending}
            onClick={() => {
              go.mutate();
            }}
          >
            Import
          </Button>
          {files.length === 0 && (
            <Text size="sm" c="dimmed">
              Choose the file that you were given first.
            </Text>
          )}
        </Group>
      </Stack>
    </Modal>
  );
}

export function LabelDialog({
  host,
  entry,
  holder,
  onOrder,
  onClose,
}: Opened & { entry: StoredEntry; holder: string | null; onOrder: (order: number) => void }) {
  const [label, setLabel] = useState(entry.label ?? '');
  const go = useMutation({
    mutationFn: () =>
      take(
        api.PUT('/api/v1/hosts/{host}/store/{thumbprint}/label', {
          params: { path: { host, thumbprint: entry.thumbprint } },
          body: { label },
        }),
      ),
    onSuccess: (a) => {
      onOrder(a.order);
    },
  });
  const byFacts = `${commonName(entry.issuer)} ${entry.notAfter.slice(0, 10)}`;
  return (
    <Modal opened onClose={onClose} title={`Label ${entry.certificate}`}>
      <Stack gap="sm">
        <TextInput
          label="Label"
          description="One entry of this host has it. Whoever carried it before is renamed; that can be undone."
          value={label}
          data-autofocus
          onChange={(e) => {
            setLabel(e.currentTarget.value);
          }}
        />
        <Group gap="xs">
          {[byFacts, holder].map(
            (l) =>
              l && (
                <Button
                  key={l}
                  size="compact-xs"
                  variant="default"
                  onClick={() => {
                    setLabel(l);
                  }}
                >
                  {l}
                </Button>
              ),
          )}
        </Group>
        {go.error && <Failure error={go.error} />}
        <Group>
          <Button
            disabled={!label.trim() || label === entry.label}
            loading={go.isPending}
            onClick={() => {
              go.mutate();
            }}
          >
            Call it that
          </Button>
        </Group>
      </Stack>
    </Modal>
  );
}

const forms: { value: ExportForm; label: string; key: 'never' | 'may' | 'must' }[] = [
  { value: 'pem', label: 'PEM, the whole chain', key: 'may' },
  { value: 'der', label: 'DER, the certificate alone', key: 'never' },
  { value: 'pkcs7', label: 'PKCS#7, the whole chain', key: 'never' },
  { value: 'pkcs12', label: 'PKCS#12 with the key', key: 'must' },
  { value: 'pkcs12-legacy', label: 'PKCS#12 with the key, for old programs', key: 'must' },
  { value: 'java-keystore', label: 'Java keystore (PKCS#12), with the key', key: 'must' },
];

/** What keeps a key from being exported; null when nothing does. */
function whyNotReleased(entry: StoredEntry, passphrase: string): string | null {
  if (!entry.releasable) return 'Its key was not made as one that may leave this host.';
  return passphrase.length < 10 ? 'A passphrase has at least 10 characters.' : null;
}

export function ExportDialog({
  host,
  entry,
  sealKey,
  onClose,
}: Opened & { entry: StoredEntry; sealKey: string }) {
  const [form, setForm] = useState<ExportForm>('pem');
  const [asked, setAsked] = useState(false);
  const [passphrase, setPassphrase] = useState('');
  const rule = forms.find((f) => f.value === form)?.key ?? 'never';
  const withKey = rule === 'must' || (rule === 'may' && asked);
  const go = useMutation({
    mutationFn: async () => {
      const reply = await replyKey();
      const call = {
        params: { path: { host, thumbprint: entry.thumbprint } },
        body: {
          form,
          replyTo: reply.publicKey,
          sealed: withKey ? await seal(sealKey, 'orderly-beacon passphrase', utf8.encode(passphrase)) : null,
        },
      };
      const answer = await (withKey
        ? take(api.POST('/api/v1/hosts/{host}/store/{thumbprint}/export-key', call))
        : take(api.POST('/api/v1/hosts/{host}/store/{thumbprint}/export', call)));
      const opened = await reply.open('orderly-beacon export', answer.sealed);
      const part = JSON.parse(new TextDecoder().decode(opened)) as { name: string; content: string };
      const link = document.createElement('a');
      link.href = URL.createObjectURL(new Blob([fromBase64(part.content)]));
      link.download = part.name;
      link.click();
      setTimeout(() => {
        URL.revokeObjectURL(link.href);
      }, 10_000);
    },
    onSuccess: onClose,
  });
  const why = withKey ? whyNotReleased(entry, passphrase) : null;
  return (
    <Modal opened onClose={onClose} title={`Export ${entry.certificate}`}>
      <Stack gap="sm">
        <Select
          label="Form"
          data={forms}
          value={form}
          allowDeselect={false}
          onChange={(v) => {
            setForm(v ?? 'pem');
          }}
        />
        {rule === 'may' && (
          <Checkbox
            label="With its private key"
            checked={asked}
            onChange={(e) => {
              setAsked(e.currentTarget.checked);
            }}
          />
        )}
        {withKey && (
          <PasswordInput
            label="A passphrase for the file"
            description="Whoever opens the file needs it. It is sealed to the host; that you took the key is in the journal."
            autoComplete="new-password"
            value={passphrase}
            onChange={(e) => {
              setPassphrase(e.currentTarget.value);
            }}
          />
        )}
        {go.error && <Failure error={go.error} />}
        <Group>
          <Button
            disabled={why !== null}
            loading={go.isPending}
            onClick={() => {
              go.mutate();
            }}
          >
            Export
          </Button>
          {why && (
            <Text size="sm" c="dimmed">
              {why}
            </Text>
          )}
        </Group>
      </Stack>
    </Modal>
  );
}

export function RemoveDialog({
  host,
  entry,
  onOrder,
  onClose,
}: Opened & { entry: StoredEntry; onOrder: (order: number) => void }) {
  const [sure, setSure] = useState(false);
  const go = useMutation({
    mutationFn: () =>
      take(
        api.DELETE('/api/v1/hosts/{host}/store/{thumbprint}', {
          params: { path: { host, thumbprint: entry.thumbprint } },
        }),
      ),
    onSuccess: (a) => {
      onOrder(a.order);
    },
  });
  return (
    <Modal opened onClose={onClose} title={`Delete ${entry.certificate} with its key`}>
      <Stack gap="sm">
        <Text size="sm">
          Its private key is deleted for good; nobody else has it. To lay it aside instead, archive it.
        </Text>
        <Checkbox
          label={`Delete the key of serial ${entry.serial}`}
          checked={sure}
          onChange={(e) => {
            setSure(e.currentTarget.checked);
          }}
        />
        {go.error && <Failure error={go.error} />}
        <Group>
          <Button
            color="red"
            disabled={!sure}
            loading={go.isPending}
            onClick={() => {
              go.mutate();
            }}
          >
            Delete it
          </Button>
        </Group>
      </Stack>
    </Modal>
  );
}
