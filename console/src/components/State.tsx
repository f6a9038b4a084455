import type { Severity, Verdict } from '../api/client';
import { shapes } from './shapes';

/** A state: its shape, and its word beside it. */
export function State({ severity, word }: { severity: Severity; word?: string }) {
  return (
    <span className="state" data-severity={severity} data-long={(word ?? '').length > 30}>
      <svg width="14" height="14" viewBox="0 0 14 14" aria-hidden>
        {shapes[severity]}
      </svg>
      {word ?? severity}
    </span>
  );
}

const verdicts: Record<Verdict, [Severity, string]> = {
  granted: ['fine', 'granted'],
  'needs-approval': ['soon', 'needs approval'],
  refused: ['failed', 'refused'],
};

export function VerdictState({ verdict, said }: { verdict: Verdict; said?: string }) {
  const [severity, word] = verdicts[verdict];
  return <State severity={severity} word={said ?? word} />;
}
