import { useState } from 'react';
import { Button, Checkbox, Group, MultiSelect, Select, Stack, Text, TextInput, Title } from '@mantine/core';
import { useMutation } from '@tanstack/react-query';
import { api, take, type ComposedNames } from '../api/client';
import { Failure } from './Bits';
import { State } from './State';

const purposes = [
  { value: 'website', label: 'a web site' },
  { value: 'mail', label: 'mail for a domain' },
  { value: 'database', label: 'a database' },
  { value: 'directory', label: 'a directory' },
  { value: 'files', label: 'file transfer and shares' },
  { value: 'federation', label: 'sign-in for other organisations' },
  { value: 'device', label: 'a device' },
  { value: 'several', label: 'several services under one certificate' },
];

const functions = [
  { value: 'submission', label: 'programs send' },
  { value: 'imap', label: 'programs read by IMAP' },
  { value: 'pop', label: 'programs fetch by POP' },
  { value: 'server-to-server', label: 'other organisations deliver' },
  { value: 'web-outside', label: 'web mail from outside' },
  { value: 'web-inside', label: 'web mail from inside' },
  { value: 'mobile-sync', label: 'mobile devices' },
  { value: 'client-setup', label: 'programs find their settings' },
];

/** Names from a purpose: what each is for, and what breaks without it. Taking them fills the form; nothing is asked for by it. */
export function Compose({
  host,
  services,
  take: onTake,
}: {
  host: string;
  services: string[];
  take: (names: string[], services: string[]) => void;
}) {
  const [purpose, setPurpose] = useState<string | null>(null);
  const [domain, setDomain] = useState('');
  const [used, setUsed] = useState<string[]>(['submission', 'imap']);
  const [chosen, setChosen] = useState<string[]>([]);
  const [of, setOf] = useState<string[]>([]);
  const propose = useMutation({
    mutationFn: (wish: { purpose: string; services: string[] }) =>
      take(
        api.POST('/api/v1/requests/compose', {
          body: {
            purpose: wish.purpose,
            host,
            services: wish.services.length > 0 ? wish.services : null,
            domain: domain.trim() || null,
            functions: wish.purpose === 'mail' ? used : null,
          },
        }),
      ),
    onSuccess: (c) => {
      setChosen(c.names.filter((n) => n.chosen).map((n) => n.name));
    },
  });
  const ask = (p: string | null, of: string[]) => {
    if (p) propose.mutate({ purpose: p, services: of });
  };
  const every = purpose === 'website' ? 'Choose the site' : 'all that fit';
  return (
    <section className="sheet" aria-label="What it is for">
      <Title order={3} fz="md">
        What is it for?
      </Title>
      <Stack gap={8}>
        <Select
          size="xs"
          aria-label="Purpose"
          placeholder="Choose, and the names are proposed; or enter them yourself below"
          data={purposes}
          value={purpose}
          onChange={(p) => {
            setPurpose(p);
            setOf([]);
            propose.reset();
            if (p !== 'mail') ask(p, []);
          }}
        />
        {purpose && purpose !== 'mail' && services.length > 1 && (
          <MultiSelect
            size="xs"
            label={purpose === 'website' ? 'Its site' : 'Its services'}
            placeholder={of.length > 0 ? '' : every}
            data={services}
            value={of}
            onChange={(v) => {
              setOf(v);
              ask(purpose, v);
            }}
          />
        )}
        {purpose === 'mail' && (
          <>
            <TextInput
              size="xs"
              label="Domain behind the @"
              placeholder="thistledown.example"
              spellCheck={false}
              value={domain}
              onChange={(e) => {
                setDomain(e.currentTarget.value);
              }}
            />
            <Checkbox.Group value={used} onChange={setUsed} label="What it is used for" size="xs">
              <Group gap="xs" mt={4}>
                {functions.map((f) => (
                  <Checkbox key={f.value} size="xs" value={f.value} label={f.label} w={190} />
                ))}
              </Group>
            </Checkbox.Group>
            <Group>
              <Button
                size="xs"
                variant="default"
                disabled={!domain.trim() || used.length === 0}
                loading={propose.isPending}
                onClick={() => {
                  ask('mail', []);
                }}
              >
                Propose names
              </Button>
              {(!domain.trim() || used.length === 0) && (
                <Text size="xs" c="dimmed">
                  {domain.trim() ? 'Say what it is used for.' : 'The domain is missing.'}
                </Text>
              )}
            </Group>
          </>
        )}
        {propose.error && <Failure error={propose.error} />}
        {propose.data && <Proposal data={propose.data} chosen={chosen} choose={setChosen} />}
        {propose.data && propose.data.names.length > 0 && (
          <Group justify="flex-end">
            <Button
              size="xs"
              disabled={chosen.length === 0}
              onClick={() => {
                onTake(chosen, propose.data.bindTo);
                setPurpose(null);
                propose.reset();
              }}
            >
              Take {chosen.length === 1 ? 'this name' : `these ${chosen.length} names`}
            </Button>
          </Group>
        )}
      </Stack>
    </section>
  );
}

function Proposal({
  data,
  chosen,
  choose,
}: {
  data: ComposedNames;
  chosen: string[];
  choose: (names: string[]) => void;
}) {
  return (
    <>
      <Checkbox.Group value={chosen} onChange={choose} aria-label="Proposed names">
        <Stack gap={6}>
          {data.names.map((n) => (
            <Checkbox
              key={n.name}
              size="xs"
              value={n.name}
              label={
                <>
                  {n.name} <span className="dim">{n.uses.join('; ')}</span>
                </>
              }
              description={`Without it: ${n.without} Found in: ${n.source}.`}
            />
          ))}
        </Stack>
      </Checkbox.Group>
      {data.missing.map((m) => (
        <div key={m.field}>
          <State severity="soon" word={m.reason} />
        </div>
      ))}
      {data.remarks.map((r) => (
        <Text key={r} size="xs">
          {r}
        </Text>
      ))}
    </>
  );
}
