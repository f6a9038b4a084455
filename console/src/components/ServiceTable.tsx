import { useState } from 'react';
import { Button, Group, Text } from '@mantine/core';
import { Link } from 'react-router';
import type { ServiceInfo } from '../api/client';
import { BindDialog, type Binding } from './BindDialog';
import { LookNow } from './LookNow';
import { Offered } from './Offered';
import { isDenied, useDenied } from './session';
import { State } from './State';
import { TlsDialog } from './TlsDialog';
import { backWord, read, shortHost, when } from '../words';

export function ServiceTable({
  services,
  now,
  withHost = false,
}: {
  services: ServiceInfo[];
  now: number;
  withHost?: boolean;
}) {
  const [binding, setBinding] = useState<Binding | null>(null);
  const [demanding, setDemanding] = useState<{ service: ServiceInfo; undo: boolean } | null>(null);
  const [looking, setLooking] = useState<ServiceInfo | null>(null);
  const denied = useDenied();
  if (services.length === 0) return <Text size="sm">No service was found there yet.</Text>;
  return (
    <>
      {binding && (
        <BindDialog
          binding={binding}
          close={() => {
            setBinding(null);
          }}
        />
      )}
      {demanding && (
        <TlsDialog
          {...demanding}
          close={() => {
            setDemanding(null);
          }}
        />
      )}
      {looking && (
        <LookNow
          service={looking}
          close={() => {
            setLooking(null);
          }}
        />
      )}
      <table className="rows">
        <thead>
          <tr>
            <th scope="col">Service</th>
            <th scope="col">State</th>
            <th scope="col">Endpoints</th>
            <th scope="col">Certificate</th>
            <th scope="col">Expires</th>
          </tr>
        </thead>
        <tbody>
          {services.map((s) => (
            <tr key={`${s.host}/${s.name}`}>
              <td>
                <span className="name">{withHost ? `${shortHost(s.host)}/${s.name}` : s.name}</span>
                <div className="dim">{called(s)}</div>
              </td>
              <td>
                <State severity={s.severity} word={s.state} />
                {s.look?.problems[0] && <div className="dim">{s.look.problems[0].reason}</div>}
              </td>
              <td className="nowrap">
                {s.endpoints.map((e) => (
                  <div key={`${e.address}:${e.port}`}>
                    {e.address}:{e.port} <span className="dim">{wayIn(e)}</span>
                    {e.clearText && <div className="dim">without TLS: {read(e.readable)} can be read</div>}
                  </div>
                ))}
                {s.lowest && <div className="dim">{versionWord(s.lowest)} at least, set from here</div>}
              </td>
              <td>
                {s.binding ? (
                  <Link to={`/certificates/${encodeURIComponent(s.binding.certificate)}`}>
                    {s.binding.certificate}
                  </Link>
                ) : (
                  <>
                    {s.look?.served ? 'not managed' : 'none'}
                    <Offered operation="bindService" denied={s.denied}>
                      {': '}
                      <Link to={`/new?host=${s.host}&service=${encodeURIComponent(s.name)}`}>
                        request one
                      </Link>
                    </Offered>
                  </>
                )}
                <Group gap={4} mt={2}>
                  <Offered operation="look" denied={denied}>
                    <Button
                      size="compact-xs"
                      variant="default"
                      aria-label={`Look now: ${s.name}`}
                      onClick={() => {
                        setLooking(s);
                      }}
                    >
                      Look now
                    </Button>
                  </Offered>
                  <Offered operation="bindService" denied={s.denied}>
                    <Button
                      size="compact-xs"
                      variant="default"
                      aria-label={`Bind a certificate to ${s.name}`}
                      onClick={() => {
                        setBinding({ service: s, takeOut: false });
                      }}
                    >
                      Bind
                    </Button>
                    {s.binding && (
                      <Button
                        size="compact-xs"
                        variant="default"
                        aria-label={`Take out the certificate of ${s.name}`}
                        onClick={() => {
                          setBinding({ service: s, takeOut: true });
                        }}
                      >
                        Take out
                      </Button>
                    )}
                  </Offered>
                  {s.endpoints.some((e) => e.tls) && (
                    <Offered operation="requireTls" denied={s.denied}>
                      <Button
                        size="compact-xs"
                        variant="default"
                        aria-label={`Require TLS: ${s.name}`}
                        onClick={() => {
                          setDemanding({ service: s, undo: false });
                        }}
                      >
                        Require TLS
                      </Button>
                    </Offered>
                  )}
                  {(s.requiresTls === true || s.lowest != null) && (
                    <Offered operation="allowClearText" denied={s.denied}>
                      <Button
                        size="compact-xs"
                        variant="default"
                        aria-label={`${backWord(s)}: ${s.name}`}
                        onClick={() => {
                          setDemanding({ service: s, undo: true });
                        }}
                      >
                        {backWord(s)}
                      </Button>
                    </Offered>
                  )}
                  {!isDenied('bindService', denied) && <NotYours service={s} />}
                </Group>
              </td>
              <td className="nowrap">{when(s.look?.served?.notAfter, now)}</td>
            </tr>
          ))}
        </tbody>
      </table>
    </>
  );
}

function versionWord(lowest: string): string {
  return lowest === 'tls13' ? 'TLS 1.3' : 'TLS 1.2';
}

/** Whose the host is, where it is somebody else's. */
function NotYours({ service }: { service: ServiceInfo }) {
  const why = service.denied?.find((d) => d.operations.includes('bindService'));
  return why ? (
    <span className="dim" role="note" title={why.cure}>
      {why.reason}
    </span>
  ) : null;
}

/** Its kind, and what else clients call it. */
function called(s: ServiceInfo): string {
  const others = s.names.filter((n) => n !== s.name).join(', ');
  if (s.name.startsWith(s.connector)) return `called ${others}`;
  return others ? `${s.connector} · ${others}` : s.connector;
}

const ways: Record<string, string> = {
  tls: 'TLS',
  smtp: 'SMTP, STARTTLS',
  imap: 'IMAP, STARTTLS',
  pop3: 'POP3, STLS',
  postgresql: 'PostgreSQL, TLS',
  ftp: 'FTP, AUTH TLS',
  ldap: 'LDAP, StartTLS',
  mysql: 'MariaDB, TLS',
  xmpp: 'XMPP, STARTTLS',
};

/** How clients come to TLS at an endpoint, and whether they can do without. */
function wayIn(e: ServiceInfo['endpoints'][number]): string {
  if (!e.tls) return e.clearText === false ? 'sends on to TLS' : 'plain';
  return ways[e.protocol ?? 'tls'] ?? 'TLS';
}
