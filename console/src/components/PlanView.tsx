import { Text } from '@mantine/core';
import type { components } from '../api/schema';
import { Scroll } from './Scroll';

type Plan = components['schemas']['BindPlan'];

const lineKind = (line: string) => ({ '+': 'added', '-': 'removed' })[line.slice(0, 1)];

/** What an order would change, as its agent says: what to know first, then the steps, then each file. */
export function PlanView({ plan, children }: { plan: Plan; children?: React.ReactNode }) {
  return (
    <>
      {plan.warnings.map((w) => (
        <div key={w} role="note">
          ◆ {w}
        </div>
      ))}
      <ul style={{ margin: 0, paddingLeft: 18 }}>
        {plan.steps.map((x) => (
          <li key={x}>{x}</li>
        ))}
      </ul>
      {plan.changes.map((c) => (
        <section key={c.path}>
          <Text size="sm" fw={600}>
            {c.path}
          </Text>
          <Scroll as="pre" className="mono diff">
            {c.diff
              .trimEnd()
              .split('\n')
              .map((line, i) => (
                <div key={i} className={lineKind(line)}>
                  {line || ' '}
                </div>
              ))}
          </Scroll>
        </section>
      ))}
      {children}
      {plan.changes.length === 0 && <Text size="sm">No file of the server changes.</Text>}
    </>
  );
}
