import { useEffect, useRef } from 'react';
import { Button, Group } from '@mantine/core';
import { figure } from '../words';

interface Props {
  shown: number;
  busy: boolean;
  more: (() => void) | null;
  /** How far a search has looked that goes back from the newest. */
  back?: string;
}

/** Behind a list's last row: reads on when it is scrolled to, or by its button. */
export function More({ shown, busy, more, back }: Props) {
  const end = useRef<HTMLDivElement>(null);
  useEffect(() => {
    const here = end.current;
    if (!here || !more || busy) return;
    const watch = new IntersectionObserver((entries) => {
      if (entries.some((e) => e.isIntersecting)) more();
    });
    watch.observe(here);
    return () => {
      watch.disconnect();
    };
  }, [more, busy, shown]);
  const further = back ? `, looked back to number ${back}` : ', there are more';
  return (
    <Group gap="sm" ref={end} mt="xs">
      <span className="dim" data-testid="count" role="status">
        {figure(shown)} shown{more ? further : ''}
      </span>
      {more && (
        <Button size="compact-xs" variant="default" loading={busy} onClick={more}>
          {back ? 'Look further back' : 'Show more'}
        </Button>
      )}
    </Group>
  );
}
