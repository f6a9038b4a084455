import { useState } from 'react';
import { Button, Group, Menu, Title, VisuallyHidden } from '@mantine/core';
import { useMutation, useQuery, useQueryClient } from '@tanstack/react-query';
import { Link } from 'react-router';
import { api, take, type HostDetail, type StoredEntry } from '../api/client';
import { Failure } from './Bits';
import { OrderProgress } from './OrderProgress';
import { ExportDialog, ImportDialog, LabelDialog, RemoveDialog } from './StoreDialogs';
import { usedAs } from './stored';
import { commonName, when } from '../words';
import { Scroll } from './Scroll';

/** The store of one host: what lies there, and what can be done with it. */
export function HostStore({ detail, now }: { detail: HostDetail; now: number }) {
  const host = detail.host.name;
  const cache = useQueryClient();
  const [act, setAct] = useState<{ kind: 'label' | 'export' | 'remove'; entry: StoredEntry } | null>(null);
  const [importing, setImporting] = useState(false);
  const [order, setOrder] = useState<number | null>(null);
  const { data, error } = useQuery({
    queryKey: ['host-store', host],
    queryFn: () => take(api.GET('/api/v1/store', { params: { query: { host, take: 500 } } })),
  });
  const ordered = (id: number) => {
    setOrder(id);
    setAct(null);
    setImporting(false);
    void cache.invalidateQueries({ queryKey: ['host-store', host] });
    void cache.invalidateQueries({ queryKey: ['host', host] });
  };
  const simple = useMutation({
    mutationFn: async ({ what, entry }: { what: 'archive' | 'restore' | 'undo'; entry: StoredEntry }) => {
      const path = { params: { path: { host, thumbprint: entry.thumbprint } } };
      switch (what) {
        case 'archive':
          return take(api.POST('/api/v1/hosts/{host}/store/{thumbprint}/archive', path));
        case 'restore':
          return take(api.POST('/api/v1/hosts/{host}/store/{thumbprint}/restore', path));
        case 'undo':
          return take(api.DELETE('/api/v1/hosts/{host}/store/{thumbprint}/label', path));
      }
    },
    onSuccess: (a) => {
      ordered(a.order);
    },
  });
  const rows = data?.items ?? [];
  return (
    <Scroll className="sheet" label="Store">
      <Group justify="space-between">
        <Title order={3} fz="md">
          Store
        </Title>
        {detail.sealKey && (
          <Button
            size="compact-sm"
            variant="default"
            onClick={() => {
              setImporting(true);
            }}
          >
            Import…
          </Button>
        )}
      </Group>
      {order && <OrderProgress id={order} />}
      {error && <Failure error={error} />}
      {simple.error && <Failure error={simple.error} />}
      <table className="rows">
        <thead>
          <tr>
            <th scope="col">Certificate</th>
            <th scope="col">Label</th>
            <th scope="col">Serial</th>
            <th scope="col">Expires</th>
            <th scope="col">Use</th>
            <th scope="col">Key</th>
            <th scope="col">Issuer</th>
            <th scope="col">
              <VisuallyHidden>What can be done</VisuallyHidden>
            </th>
          </tr>
        </thead>
        <tbody>
          {rows.map((e) => (
            <tr key={e.thumbprint}>
              <td>
                <Link to={`/certificates/${encodeURIComponent(e.certificate)}`}>{e.certificate}</Link>
              </td>
              <td>{e.label}</td>
              <td className="mono nowrap" title={`SHA-256 ${e.thumbprint}`}>
                {e.serial.slice(0, 12)}
                {e.serial.length > 12 && '…'}
              </td>
              <td className="nowrap">{when(e.notAfter, now)}</td>
              <td>{usedAs(e)}</td>
              <td className="nowrap">{e.releasable ? 'may leave' : 'stays here'}</td>
              <td title={e.issuer ?? ''}>{commonName(e.issuer)}</td>
              <td>
                {/* What changes meanwhile may move the row: the menu stays all the same. */}
                <Menu position="bottom-end" hideDetached={false}>
                  <Menu.Target>
                    <Button
                      size="compact-xs"
                      variant="default"
                      aria-label={`Do something with ${e.certificate}`}
                    >
                      ⋯
                    </Button>
                  </Menu.Target>
                  <Menu.Dropdown>
                    <Menu.Item
                      onClick={() => {
                        setAct({ kind: 'export', entry: e });
                      }}
                    >
                      Export…
                    </Menu.Item>
                    <Menu.Item
                      onClick={() => {
                        setAct({ kind: 'label', entry: e });
                      }}
                    >
                      Label…
                    </Menu.Item>
                    {e.label && (
                      <Menu.Item
                        onClick={() => {
                          simple.mutate({ what: 'undo', entry: e });
                        }}
                      >
                        Undo its label
                      </Menu.Item>
                    )}
                    <Menu.Item
                      onClick={() => {
                        simple.mutate({ what: e.archived ? 'restore' : 'archive', entry: e });
                      }}
                    >
                      {e.archived ? 'Take it out of the archive' : 'Archive it'}
                    </Menu.Item>
                    <Menu.Item
                      onClick={() => {
                        setAct({ kind: 'remove', entry: e });
                      }}
                    >
                      Delete it with its key…
                    </Menu.Item>
                  </Menu.Dropdown>
                </Menu>
              </td>
            </tr>
          ))}
          {data && rows.length === 0 && (
            <tr>
              <td colSpan={8}>Its store is empty. Request a certificate for it, or import one.</td>
            </tr>
          )}
        </tbody>
      </table>
      <Authorities detail={detail} now={now} />
      {importing && detail.sealKey && (
        <ImportDialog
          host={host}
          sealKey={detail.sealKey}
          onOrder={ordered}
          onClose={() => {
            setImporting(false);
          }}
        />
      )}
      {act?.kind === 'label' && (
        <LabelDialog
          host={host}
          entry={act.entry}
          holder={rows.find((r) => r.label && r.thumbprint !== act.entry.thumbprint)?.label ?? null}
          onOrder={ordered}
          onClose={() => {
            setAct(null);
          }}
        />
      )}
      {act?.kind === 'export' && detail.sealKey && (
        <ExportDialog
          host={host}
          entry={act.entry}
          sealKey={detail.sealKey}
          onClose={() => {
            setAct(null);
          }}
        />
      )}
      {act?.kind === 'remove' && (
        <RemoveDialog
          host={host}
          entry={act.entry}
          onOrder={ordered}
          onClose={() => {
            setAct(null);
          }}
        />
      )}
    </Scroll>
  );
}

function Authorities({ detail, now }: { detail: HostDetail; now: number }) {
  const all = detail.authorities ?? [];
  if (all.length === 0) return null;
  return (
    <table className="rows" aria-label="Intermediates and anchors">
      <thead>
        <tr>
          <th scope="col">Intermediates and anchors</th>
          <th scope="col">Issued by</th>
          <th scope="col">Expires</th>
        </tr>
      </thead>
      <tbody>
        {all.map((a) => (
          <tr key={`${a.kind} ${a.thumbprint}`}>
            <td title={`SHA-256 ${a.thumbprint}`}>
              {commonName(a.subject)} <span className="dim">{a.kind}</span>
            </td>
            <td title={a.issuer}>{a.issuer === a.subject ? 'itself' : commonName(a.issuer)}</td>
            <td className="nowrap">{when(a.notAfter, now)}</td>
          </tr>
        ))}
      </tbody>
    </table>
  );
}
