import type { Severity } from '../api/client';

/** One shape for each state: drawn in a square of 14. */
export const shapes: Record<Severity, React.ReactNode> = {
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
