import type { Severity, Verdict } from '../api/client';

const shapes: Record<Severity, React.ReactNode> = {
  fine: <circle cx="7" cy="7" r="4.5" fill="none" stroke="currentColor" strokeWidth="1.5" />,
  soon: (
    <>
      <circle cx="7" cy="7" r="4.5" fill="none" stroke="currentColor" strokeWidth="1.5" />
      <path d="M7 2.5a4.5 4.5 0 0 1 0 9z" fill="currentColor" />
    </>
  ),
  now: <path d="M7 1l6 6-6 6-6-6z" fill="currentColor" />,
  failed: (
    <path
      d="M2.5 2.5l9 9m0-9l-9 9"
      stroke="currentColor"
      strokeWidth="2.6"
      strokeLinecap="round"
      fill="none"
    />
  ),
};

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

export function VerdictState({ verdict }: { verdict: Verdict }) {
  const [severity, word] = verdicts[verdict];
  return <State severity={severity} word={word} />;
}
