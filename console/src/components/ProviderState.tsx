import type { FederationStep, ProviderInfo } from '../api/client';
import { State } from './State';

const words: Record<FederationStep, string> = {
  unmanaged: 'not looked after',
  steady: 'signs and publishes one',
  publishing: 'publishing the next',
  waiting: 'waiting for partners',
  switching: 'changing its key',
  fading: 'one before still published',
  retiring: 'retiring the one before',
  held: 'held',
  unknown: 'unknown',
};

/** How far a provider is with its next signing certificate. */
export function ProviderState({ provider: p }: { provider: ProviderInfo }) {
  return (
    <State severity={p.severity} word={p.problem && p.severity === 'failed' ? 'failed' : words[p.step]} />
  );
}
