import type { HostInfo } from '../api/client';
import { State } from './State';

export function HostState({ host }: { host: HostInfo }) {
  if (host.state === 'invited') return <State severity="soon" word="invited" />;
  if (host.problem) return <State severity="now" word="problem" />;
  return host.online ? <State severity="fine" word="connected" /> : <State severity="now" word="away" />;
}
