import { useState } from 'react';
import { Button, Group, Loader, NativeSelect, Stack, Text, Title } from '@mantine/core';
import { keepPreviousData, useInfiniteQuery, useQuery } from '@tanstack/react-query';
import { Link, useParams, useSearchParams } from 'react-router';
import { api, take, type AnchorInfo, type TrustStoreInfo } from '../api/client';
import { AnchorStanding } from '../components/AnchorStanding';
import { CommandLine, Facts, Failure } from '../components/Bits';
import { More } from '../components/More';
import { NotOffered, Offered } from '../components/Offered';
import { useDenied } from '../components/session';
import { TrustDialog, type Act } from '../components/TrustDialog';
import { useNow } from '../components/useNow';
import { commonName, shortHost, when } from '../words';
import { Scroll } from '../components/Scroll';

const standings = [
  { value: '', label: 'all stores' },
  { value: 'lacking', label: 'lack it' },
  { value: 'trusted', label: 'trust it' },
  { value: 'pushed', label: 'trust it by an order' },
  { value: 'distrusted', label: 'distrust it' },
  { value: 'not-known', label: 'not known' },
];

/** What a store can be told about an anchor, by how it stands to it. */
const actOf: Record<string, [Act, string]> = {
  lacking: ['push', 'push …'],
  pushed: ['withdraw', 'withdraw …'],
  trusted: ['distrust', 'distrust …'],
  distrusted: ['trust-again', 'trust again …'],
};

/** One anchor: what stands on it, and how each store stands to it. */
export function Anchor() {
  const thumbprint = useParams().anchor ?? '';
  const now = useNow();
  const denied = useDenied();
  const [change, setChange] = useState<{ act: Act; store: TrustStoreInfo | null } | null>(null);
  const { data, error } = useQuery({
    queryKey: ['anchor', thumbprint],
    queryFn: () =>
      take(api.GET('/api/v1/trust/anchors/{anchor}', { params: { path: { anchor: thumbprint } } })),
  });
  if (error && !data) return <Failure error={error} />;
  if (!data) return <Loader aria-label="Loading" />;
  const a = data.anchor;
  return (
    <Stack gap="md">
      <Group justify="space-between">
        <Title order={2} fz={22}>
          {commonName(a.subject)}
        </Title>
        <Offered operation="changeTrust" denied={denied}>
          <Everywhere
            anchor={a}
            choose={(act) => {
              setChange({ act, store: null });
            }}
          />
        </Offered>
      </Group>
      <NotOffered actions={{ changeTrust: 'change what stores trust' }} denied={denied} />
      <section className="sheet">
        <Facts
          rows={[
            ['Subject', a.subject + (a.ours ? ' (ours)' : '')],
            ['SHA-256 fingerprint', <span className="mono">{a.thumbprint}</span>],
            ['Expires', when(a.notAfter, now)],
            ['Key', data.text.key],
            ['Services whose chain ends there', <Standing services={data.services} count={a.services} />],
          ]}
        />
      </section>
      <Stores
        anchor={a}
        change={(act, store) => {
          setChange({ act, store });
        }}
      />
      {change && (
        <TrustDialog
          anchor={a}
          act={change.act}
          store={change.store}
          close={() => {
            setChange(null);
          }}
        />
      )}
    </Stack>
  );
}

function Standing({ services, count }: { services: string[]; count: number }) {
  if (count === 0) return 'none that is looked after here';
  return (
    <>
      {services.map((s, i) => (
        <span key={s}>
          {i > 0 && ', '}
          <Link to={`/hosts/${s.split('/')[0]}`}>{s}</Link>
        </span>
      ))}
      {count > services.length && ` and ${count - services.length} more`}
    </>
  );
}

/** What can be done for all stores at once. */
function Everywhere({ anchor: a, choose }: { anchor: AnchorInfo; choose: (act: Act) => void }) {
  return (
    <Group gap="xs">
      {a.lackedBy > 0 && a.vouched && (
        <Button
          size="xs"
          variant={a.ours ? 'filled' : 'default'}
          onClick={() => {
            choose('push');
          }}
        >
          Push to those that lack it …
        </Button>
      )}
      {a.trustedBy > 0 && !a.ours && (
        <Button
          size="xs"
          variant="default"
          onClick={() => {
            choose('distrust');
          }}
        >
          Distrust everywhere …
        </Button>
      )}
      {a.distrustedBy > 0 && (
        <Button
          size="xs"
          variant="default"
          onClick={() => {
            choose('trust-again');
          }}
        >
          Trust again …
        </Button>
      )}
    </Group>
  );
}

function Stores({
  anchor,
  change,
}: {
  anchor: AnchorInfo;
  change: (act: Act, store: TrustStoreInfo) => void;
}) {
  const denied = useDenied();
  const [params, setParams] = useSearchParams();
  const standing = params.get('standing') ?? '';
  const query = { anchor: anchor.thumbprint, ...(standing ? { standing } : {}), take: 100 };
  const { data, error, fetchNextPage, hasNextPage, isFetchingNextPage } = useInfiniteQuery({
    queryKey: ['trust-stores', query],
    queryFn: ({ pageParam }) =>
      take(
        api.GET('/api/v1/trust/stores', {
          params: { query: { ...query, ...(pageParam ? { after: pageParam } : {}) } },
        }),
      ),
    initialPageParam: '',
    getNextPageParam: (last) => last.next ?? undefined,
    placeholderData: keepPreviousData,
  });
  const rows = data?.pages.flatMap((p) => p.items) ?? [];
  if (error && !data) return <Failure error={error} />;
  return (
    <Scroll className="sheet">
      <Group justify="space-between" mb="xs">
        <Title order={3} fz={16}>
          Trust stores
        </Title>
        <NativeSelect
          size="xs"
          aria-label="Which stores"
          data={standings}
          value={standing}
          onChange={(e) => {
            const value = e.currentTarget.value;
            setParams(value ? { standing: value } : {}, { replace: true });
          }}
        />
      </Group>
      <table className="rows">
        <thead>
          <tr>
            <th scope="col">Host</th>
            <th scope="col">Who trusts by it</th>
            <th scope="col">Stands to it</th>
            <th scope="col">Anchors</th>
            <th scope="col">Store</th>
            <th scope="col">
              <span className="dim">Change</span>
            </th>
          </tr>
        </thead>
        <tbody>
          {rows.map((s) => (
            <tr key={s.id}>
              <td>
                <Link to={`/hosts/${s.host}`}>{shortHost(s.host)}</Link>
              </td>
              <td>
                {s.reader}
                {s.letsIn && <span className="dim"> (lets clients in)</span>}
                {s.problem && (
                  <Text size="xs" role="note">
                    ◆ {s.problem.message} <span className="dim">{s.problem.cure}</span>
                  </Text>
                )}
              </td>
              <td className="nowrap">
                <AnchorStanding standing={s.standing} />
              </td>
              <td>{s.anchors}</td>
              <td className="mono dim">
                {s.kind} {s.path}
              </td>
              <td>
                <Offered operation="changeTrust" denied={denied}>
                  <Change store={s} anchor={anchor} change={change} />
                </Offered>
              </td>
            </tr>
          ))}
          {data && rows.length === 0 && (
            <tr>
              <td colSpan={6}>No store stands to it like that.</td>
            </tr>
          )}
        </tbody>
      </table>
      <More
        shown={rows.length}
        busy={isFetchingNextPage}
        more={hasNextPage ? () => void fetchNextPage() : null}
      />
      <CommandLine
        command={`beacon trust list --anchor ${anchor.thumbprint.slice(0, 16)}${standing ? ` --standing ${standing}` : ''}`}
      />
    </Scroll>
  );
}

function Change({
  store,
  anchor,
  change,
}: {
  store: TrustStoreInfo;
  anchor: AnchorInfo;
  change: (act: Act, store: TrustStoreInfo) => void;
}) {
  const offered = actOf[store.standing ?? ''];
  if (!offered) return null;
  const [act, label] = offered;
  // Who may vouch for servers is an authority keeper's to say.
  if (act === 'push' && !anchor.vouched) return null;
  return (
    <Button
      size="compact-xs"
      variant="default"
      aria-label={`${label.replace(' …', '')} on ${shortHost(store.host)}, ${store.reader}`}
      onClick={() => {
        change(act, store);
      }}
    >
      {label}
    </Button>
  );
}
