import { Button, CopyButton, Group, Text } from '@mantine/core';
import { ProblemError } from '../api/client';
import { State } from './State';

/** The client command that does the same as the page. */
export function CommandLine({ command }: { command: string }) {
  return (
    <Group gap="xs" wrap="nowrap" align="center">
      <Text component="code" className="mono dim">
        $ {command}
      </Text>
      <CopyButton value={command}>
        {({ copied, copy }) => (
          <Button size="compact-xs" variant="default" flex="none" onClick={copy}>
            {copied ? 'Copied' : 'Copy'}
          </Button>
        )}
      </CopyButton>
    </Group>
  );
}

/** A failure: what is wrong and its cure on one line. */
export function Failure({ error }: { error: Error }) {
  return (
    <div role="alert" className="sheet">
      <State severity="failed" word={error.message} />{' '}
      {error instanceof ProblemError && <span className="dim">{error.cure}</span>}
    </div>
  );
}

/** Names and values. */
export function Facts({ rows }: { rows: [string, React.ReactNode][] }) {
  return (
    <table className="rows">
      <tbody>
        {rows
          .filter(([, v]) => v !== null && v !== undefined && v !== '')
          .map(([k, v]) => (
            <tr key={k}>
              <th scope="row">{k}</th>
              <td>{v}</td>
            </tr>
          ))}
      </tbody>
    </table>
  );
}
