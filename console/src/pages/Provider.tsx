import { useState } from 'react';
import { Button, Group, Loader, Stack, Text, Title } from '@mantine/core';
import { useQuery } from '@tanstack/react-query';
import { Link, useParams } from 'react-router';
import { api, take, type FederationStep, type PartnerInfo, type ProviderInfo } from '../api/client';
import { CommandLine, Facts, Failure } from '../components/Bits';
import { Offered, NotOffered } from '../components/Offered';
import { BackDialog, GoOnDialog, PartnerDialog, SignWithDialog } from '../components/ProviderDialogs';
import { ProviderState } from '../components/ProviderState';
import { Scroll } from '../components/Scroll';
import { State } from '../components/State';
import { useNow } from '../components/useNow';
import { shortHost, when } from '../words';

type Asked = 'sign-with' | 'go-on' | 'back' | PartnerInfo;

const may = {
  signWith: 'choose its certificate',
  goOnSigning: 'let it go on',
  stepBackSigning: 'take a step back',
  keepPartner: 'say what is known of partners',
} as const;

/** One provider: what it signs with, what comes next, and for whom that breaks something. */
export function Provider() {
  const { number = '' } = useParams();
  const now = useNow();
  const [asked, setAsked] = useState<Asked | null>(null);
  const { data: p, error } = useQuery({
    queryKey: ['federation', number],
    queryFn: () =>
      take(api.GET('/api/v1/federation/{number}', { params: { path: { number: Number(number) } } })),
  });
  if (error && !p) return <Failure error={error} />;
  if (!p) return <Loader aria-label="Loading" />;
  const close = () => {
    setAsked(null);
  };
  const between = p.also !== null && p.certificate !== null;
  const waits = p.step === 'waiting' || p.step === 'held' || p.severity === 'failed';
  return (
    <Stack gap="md">
      {asked === 'sign-with' && <SignWithDialog provider={p} close={close} />}
      {asked === 'go-on' && <GoOnDialog provider={p} close={close} />}
      {asked === 'back' && <BackDialog provider={p} close={close} />}
      {asked !== null && typeof asked === 'object' && (
        <PartnerDialog provider={p} partner={asked} close={close} />
      )}
      <Group justify="space-between" align="flex-start">
        <div>
          <Title order={2} fz={22} style={{ overflowWrap: 'anywhere' }}>
            {p.entity}
          </Title>
          <ProviderState provider={p} />
        </div>
        <Group gap="xs">
          <Actions provider={p} between={between} waits={waits} ask={setAsked} />
        </Group>
      </Group>
      <NotOffered actions={may} denied={p.denied} />
      <Way provider={p} />
      {p.problem && (
        <div role="alert" className="sheet">
          <State severity={p.severity} word={p.problem.message} />
          <div className="dim">{p.problem.cure}</div>
        </div>
      )}
      <section className="sheet">
        <Facts
          rows={[
            ['Signs with', signing(p.signs, now)],
            ['Publishes too', signing(p.also, now)],
            [
              'Certificate here',
              p.certificate ? (
                <>
                  <Link to={`/certificates/${encodeURIComponent(p.certificate)}`}>{p.certificate}</Link>
                  {p.nextSerial && <span className="dim mono"> next edition {p.nextSerial}</span>}
                </>
              ) : (
                'none'
              ),
            ],
            ['Metadata', <code className="mono">{p.metadata}</code>],
            [
              'Configured',
              <>
                on <Link to={`/hosts/${p.host}`}>{shortHost(p.host)}</Link>,{' '}
                <code className="mono">{p.place}</code>
              </>,
            ],
          ]}
        />
      </section>
      <Partners provider={p} now={now} ask={setAsked} />
      <CommandLine command={`beacon federation show ${p.number}`} />
    </Stack>
  );
}

function Actions({
  provider: p,
  between,
  waits,
  ask,
}: {
  provider: ProviderInfo;
  between: boolean;
  waits: boolean;
  ask: (what: Asked) => void;
}) {
  return (
    <>
      {waits && (
        <Offered operation="goOnSigning" denied={p.denied}>
          <Button
            variant={p.step === 'waiting' ? 'default' : 'filled'}
            onClick={() => {
              ask('go-on');
            }}
          >
            {p.step === 'waiting' ? 'Do not wait …' : 'Let it go on …'}
          </Button>
        </Offered>
      )}
      {between && (
        <Offered operation="stepBackSigning" denied={p.denied}>
          <Button
            variant="default"
            onClick={() => {
              ask('back');
            }}
          >
            One step back …
          </Button>
        </Offered>
      )}
      {!between && (
        <Offered operation="signWith" denied={p.denied}>
          <Button
            variant={p.certificate ? 'default' : 'filled'}
            onClick={() => {
              ask('sign-with');
            }}
          >
            {p.certificate ? 'Another certificate …' : 'Give it a certificate …'}
          </Button>
        </Offered>
      )}
    </>
  );
}

function signing(c: ProviderInfo['signs'], now: number) {
  return (
    c && (
      <>
        {c.subject}, expires {when(c.notAfter, now)} <span className="dim mono">{c.serial}</span>
      </>
    )
  );
}

const steps: { at: FederationStep[]; word: string; what: string }[] = [
  {
    at: ['publishing', 'waiting'],
    word: '1 · The next one is published',
    what: 'Partners get both; it signs with the one before.',
  },
  {
    at: ['switching', 'fading'],
    word: '2 · It signs with the next one',
    what: 'Partners get both, until what the one before signed is gone.',
  },
  {
    at: ['retiring', 'steady'],
    word: '3 · The one before is retired',
    what: 'Partners get one, the new one.',
  },
];

/** The three steps, where it stands in them, and whom the next one would hurt. */
function Way({ provider: p }: { provider: ProviderInfo }) {
  const at = steps.findIndex((s) => s.at.includes(p.step));
  return (
    <section className="sheet" aria-label="The way to the next certificate">
      <ol style={{ listStyle: 'none', margin: 0, padding: 0, display: 'flex', gap: 24, flexWrap: 'wrap' }}>
        {steps.map((s, i) => {
          const done = at > i || p.step === 'steady';
          const now = at === i && !done;
          const mark = done ? ' · done' : '';
          return (
            <li key={s.word} aria-current={now ? 'step' : undefined} style={{ flex: '1 1 220px' }}>
              <Text size="sm" fw={now ? 700 : 400}>
                {s.word}
                <span className="dim">{now ? ' · now' : mark}</span>
              </Text>
              <div className="dim">{s.what}</div>
            </li>
          );
        })}
      </ol>
      <Text size="sm" mt={10}>
        {p.next}
      </Text>
      {p.breaks.map((b) => (
        <div key={b} role="note" style={{ marginTop: 4 }}>
          ◆ {b}
        </div>
      ))}
    </section>
  );
}

function Partners({
  provider: p,
  now,
  ask,
}: {
  provider: ProviderInfo;
  now: number;
  ask: (what: Asked) => void;
}) {
  return (
    <section className="sheet">
      <h3>Partners</h3>
      {p.notCounted && <div role="note">◆ Who fetches the metadata is not known: {p.notCounted}</div>}
      <Scroll>
        <table className="rows">
          <thead>
            <tr>
              <th scope="col">Partner</th>
              <th scope="col">Knows what is published now</th>
              <th scope="col">Fetches from</th>
              <th scope="col">
                <span className="dim">Change</span>
              </th>
            </tr>
          </thead>
          <tbody>
            {p.partners.map((x) => (
              <tr key={x.entity}>
                <th scope="row">{x.entity}</th>
                <td>{knows(p, x, now)}</td>
                <td className="mono">{x.addresses.join(', ') || 'not known'}</td>
                <td>
                  <Offered operation="keepPartner" denied={p.denied}>
                    <Button
                      size="compact-xs"
                      variant="default"
                      aria-label={`What is known of ${x.entity}`}
                      onClick={() => {
                        ask(x);
                      }}
                    >
                      What is known …
                    </Button>
                  </Offered>
                </td>
              </tr>
            ))}
            {p.partners.length === 0 && (
              <tr>
                <td colSpan={4}>Its configuration names none.</td>
              </tr>
            )}
          </tbody>
        </table>
      </Scroll>
      {p.strangers.map((s) => (
        <div key={s.address} className="dim">
          {s.address} has fetched it too, {when(s.at, now)}; whose address that is was not said.
        </div>
      ))}
    </section>
  );
}

function knows(p: ProviderInfo, x: PartnerInfo, now: number) {
  if (x.fetchedAt) return <State severity="fine" word={`fetched ${when(x.fetchedAt, now)}`} />;
  if (x.wordBy) return <State severity="fine" word={`by ${x.wordBy}'s word: ${x.word ?? ''}`} />;
  return p.also ? <State severity="soon" word="not yet" /> : <span className="dim">nothing new to know</span>;
}
