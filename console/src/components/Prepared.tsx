import { useQuery } from '@tanstack/react-query';
import { api, take } from '../api/client';
import { OrderProgress } from './OrderProgress';
import { Rollover } from './Rollover';

/** How a request goes on whose key was made before its edition: its records in DNS, and then what its host does. */
export function Prepared({ certificate, request }: { certificate: string; request: number }) {
  const { data } = useQuery({
    queryKey: ['certificate', certificate],
    queryFn: () => take(api.GET('/api/v1/certificates/{name}', { params: { path: { name: certificate } } })),
    // The events say when something changes; this is for a line that is down.
    refetchInterval: (q) => (q.state.data?.certificate.rollover ? 2000 : false),
  });
  const complete = data?.orders.find((o) => o.kind === 'complete' && o.request === request);
  const rollover = data?.certificate.rollover;
  return (
    <>
      {rollover && <Rollover rollover={rollover} certificate={data.certificate} />}
      {complete && <OrderProgress id={complete.id} />}
    </>
  );
}
