import { useEffect, useRef } from 'react';
import { Button, Group } from '@mantine/core';

/** Behind a list's last row: reads on when it is scrolled to, or by its button. */
export function More({ shown, busy, more }: { shown: number; busy: boolean; more: (() => void) | null }) {
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
  return (
    <Group gap="sm" ref={end} mt="xs">
      <span className="dim" data-testid="count" role="status">
        {shown} shown{more ? ', there are more' : ''}
      </span>
      {more && (
        <Button size="compact-xs" variant="default" loading={busy} onClick={more}>
          Show more
        </Button>
      )}
    </Group>
  );
}
