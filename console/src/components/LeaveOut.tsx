import { Checkbox, Stack } from '@mantine/core';

/** Names of a service that a certificate lacks: each is left out by a word of its own, or nothing is done. */
export function LeaveOut({
  uncovered,
  said,
  say,
}: {
  uncovered: string[];
  said: string[];
  say: (names: string[]) => void;
}) {
  if (uncovered.length === 0) return null;
  return (
    <Stack gap={4} role="group" aria-label="Names that are left out" mt="xs">
      {uncovered.map((n) => (
        <Checkbox
          key={n}
          size="xs"
          label={`Leave out ${n}: clients that use it will refuse the service`}
          checked={said.includes(n)}
          onChange={(e) => {
            say(e.currentTarget.checked ? [...said, n] : said.filter((x) => x !== n));
          }}
        />
      ))}
    </Stack>
  );
}
