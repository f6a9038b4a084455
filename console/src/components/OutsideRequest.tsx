import { useState } from 'react';
import { Button, CopyButton, FileInput, Group, Stack, Text, Title } from '@mantine/core';
import { useMutation, useQuery, useQueryClient } from '@tanstack/react-query';
import { api, take, type RequestInfo } from '../api/client';
import { toBase64 } from '../api/seal';
import { Facts, Failure } from './Bits';
import { NotOffered, Offered } from './Offered';
import { State } from './State';
import { useNow } from './useNow';
import { when } from '../words';

/** A request that waits for an authority that is not ours: its CSR goes out whole, the answer comes back in any form. */
export function OutsideRequest({ request }: { request: RequestInfo }) {
  const id = request.number;
  const cache = useQueryClient();
  const now = useNow();
  const csr = useQuery({
    queryKey: ['csr', id],
    queryFn: () => take(api.GET('/api/v1/requests/{id}/csr', { params: { path: { id } } })),
    staleTime: Infinity,
  });
  const outside = useQuery({ queryKey: ['outside'], queryFn: () => take(api.GET('/api/v1/outside')) });
  const authority = outside.data?.find((o) => o.name === request.outside);
  const again = () => cache.invalidateQueries({ queryKey: ['request', id] });
  const accept = useMutation({
    mutationFn: () => take(api.POST('/api/v1/requests/{id}/answer/accept', { params: { path: { id } } })),
    onSuccess: again,
  });
  const held = request.held;
  return (
    <>
      {held && (
        <section className="sheet" aria-label="An answer that differs">
          <State severity="now" word="The answer is not what was asked" />
          {held.differences.map((d) => (
            <Text size="sm" key={d}>
              {d}
            </Text>
          ))}
          <Facts
            rows={[
              ['Its names', held.names.join(', ')],
              ['Serial', held.serial],
              ['Expires', when(held.notAfter, now)],
              ['Came', when(held.at, now)],
            ]}
          />
          <NotOffered denied={request.denied} actions={{ acceptAnswer: 'take it as it is' }} />
          <Offered operation="acceptAnswer" denied={request.denied}>
            <Button
              loading={accept.isPending}
              onClick={() => {
                accept.mutate();
              }}
            >
              Take it as it is
            </Button>
          </Offered>
          {accept.error && <Failure error={accept.error} />}
        </section>
      )}
      <section className="sheet">
        <Title order={3} fz="md">
          1. Hand in the CSR at {authority?.title ?? request.outside}
        </Title>
        {authority?.note && <Text size="sm">{authority.note}</Text>}
        {csr.error && <Failure error={csr.error} />}
        {csr.data && (
          <Stack gap="xs">
            <Facts
              rows={[
                ['It asks for', csr.data.names.join(', ')],
                ['Subject', csr.data.subject],
                ['Key', csr.data.key],
              ]}
            />
            <pre className="mono" tabIndex={0} aria-label="CSR" style={{ maxHeight: 170, overflow: 'auto' }}>
              {csr.data.csr}
            </pre>
            <Group gap="xs">
              <CopyButton value={csr.data.csr}>
                {({ copied, copy }) => (
                  <Button size="compact-sm" onClick={copy}>
                    {copied ? 'Copied, all of it' : 'Copy it whole'}
                  </Button>
                )}
              </CopyButton>
              <Button
                size="compact-sm"
                variant="default"
                component="a"
                href={`data:application/pkcs10,${encodeURIComponent(csr.data.csr)}`}
                download={csr.data.fileName}
              >
                Save as {csr.data.fileName}
              </Button>
            </Group>
          </Stack>
        )}
      </section>
      <section className="sheet">
        <Title order={3} fz="md">
          2. Bring the answer
        </Title>
        <BringAnswer onTaken={again} />
      </section>
    </>
  );
}

/** Any files of an answer: each certificate finds its request by its key. */
export function BringAnswer({ onTaken }: { onTaken: () => unknown }) {
  const [files, setFiles] = useState<File[]>([]);
  const bring = useMutation({
    mutationFn: async () =>
      take(
        api.POST('/api/v1/requests/answers', {
          body: {
            files: await Promise.all(
              files.map(async (f) => ({
                name: f.name,
                content: toBase64(new Uint8Array(await f.arrayBuffer())),
              })),
            ),
          },
        }),
      ),
    onSuccess: onTaken,
  });
  return (
    <Stack gap="xs">
      <FileInput
        label="Files that the authority sent"
        description="PEM, DER, PKCS#7 or a ZIP, in any order. Each certificate finds its request by its key, also another one than this."
        placeholder="Choose files"
        multiple
        w={520}
        value={files}
        onChange={setFiles}
      />
      <Group>
        <Button
          disabled={files.length === 0}
          loading={bring.isPending}
          onClick={() => {
            bring.mutate();
          }}
        >
          Bring it
        </Button>
      </Group>
      {bring.error && <Failure error={bring.error} />}
      {bring.data?.answers.map((a) => (
        <Group key={a.certificate} gap="xs" align="baseline" wrap="nowrap">
          <State severity={a.taken ? 'fine' : 'soon'} word={a.certificate} />
          <Text size="sm">{a.told}</Text>
        </Group>
      ))}
      {bring.data?.notes.map((n) => (
        <Text size="sm" c="dimmed" key={n}>
          {n}
        </Text>
      ))}
    </Stack>
  );
}
