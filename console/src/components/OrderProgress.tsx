import { Loader } from '@mantine/core';
import { useQuery } from '@tanstack/react-query';
import { api, take, type OrderInfo } from '../api/client';
import { shortHost } from '../words';
import { Failure } from './Bits';
import { State } from './State';

const openStates = ['queued', 'taken'];

/** An order's steps as they happen, to its end. */
export function OrderProgress({ id }: { id: number }) {
  const { data, error } = useQuery({
    queryKey: ['order', id],
    queryFn: () => take(api.GET('/api/v1/orders/{id}', { params: { path: { id } } })),
    // The events say when something changes; this is for a line that is down.
    refetchInterval: (q) => (q.state.data && !openStates.includes(q.state.data.state) ? false : 1000),
  });
  if (error && !data) return <Failure error={error} />;
  if (!data) return <Loader size="sm" aria-label="Loading" />;
  return (
    <section className="sheet" aria-live="polite" data-testid="progress">
      <ol style={{ margin: 0, paddingLeft: 18 }}>
        {data.steps.map((s) => (
          <li key={s}>{s}</li>
        ))}
      </ol>
      <End order={data} />
    </section>
  );
}

function doneWord(order: OrderInfo): string {
  if (order.kind === 'prepare') return 'the key and the CSR are made';
  if (order.services.length > 0) return `serving: ${order.services.join(', ')}`;
  if (order.kind === 'store' || order.kind === 'keep-device') return 'done';
  return order.device ? `on ${shortHost(order.device)}` : 'in the store of its host';
}

function End({ order }: { order: OrderInfo }) {
  if (openStates.includes(order.state))
    return (
      <div className="state">
        <Loader size={12} aria-hidden />{' '}
        {order.steps.length === 0 ? `waiting for the agent on ${shortHost(order.host)}` : 'working'}
      </div>
    );
  if (order.state === 'done')
    return (
      <>
        <State severity="fine" word={doneWord(order)} />
        {order.looks.map((l) => (
          <div key={l.serverName}>
            {l.accepted
              ? `Clients accept it: ${l.serverName} at ${l.address}:${l.port}, ${l.protocol ?? ''}`
              : l.problems[0]?.reason}
          </div>
        ))}
      </>
    );
  return (
    <div role="alert">
      <State
        severity="failed"
        word={order.state === 'cancelled' ? 'cancelled' : (order.problem?.message ?? 'failed')}
      />{' '}
      <span className="dim">{order.problem?.cure}</span>
    </div>
  );
}
