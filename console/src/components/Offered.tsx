import type { Denied, Operation } from '../api/client';
import { isDenied, listed } from './session';

/** Shows what does an operation only to who may do it. The service decides again when it is called. */
export function Offered({
  operation,
  denied,
  children,
}: {
  operation: Operation;
  denied: Denied[] | undefined;
  children: React.ReactNode;
}) {
  return isDenied(operation, denied) ? null : children;
}

/** Says in place of what is not offered why it is not, and who can help. */
export function NotOffered({
  actions,
  denied = [],
}: {
  /** How each is said after "You may not". */
  actions: Partial<Record<Operation, string>>;
  denied: Denied[] | undefined;
}) {
  const reasons = denied
    .map((d) => ({
      ...d,
      said: d.operations.flatMap((o) => actions[o as Operation] ?? []),
    }))
    .filter((d) => d.said.length > 0);
  if (reasons.length === 0) return null;
  return (
    <div>
      {reasons.map((d) => (
        <div key={d.reason} className="dim" role="note">
          You may not {listed(d.said)}. {d.reason.endsWith('may not do this.') ? '' : `${d.reason} `}
          {d.cure}
        </div>
      ))}
    </div>
  );
}
