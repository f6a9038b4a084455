import { useEffect, useState } from 'react';
import { useQueryClient } from '@tanstack/react-query';

/** Which questions have to be asked again when a noun changes. */
const asks: Record<string, string[]> = {
  certificate: [
    'records',
    'today',
    'certificates',
    'certificate',
    'services',
    'host',
    'host-store',
    'journal',
  ],
  request: ['today', 'request', 'requests', 'journal'],
  authority: ['authorities', 'health', 'today', 'journal'],
  profile: ['profiles', 'profile', 'journal'],
  order: ['order', 'today', 'certificates', 'certificate', 'host', 'host-store'],
  host: ['today', 'hosts', 'host', 'services', 'certificate', 'certificates', 'store', 'host-store'],
  outside: ['outside', 'journal'],
  service: ['today', 'services', 'host'],
  sweep: ['sweeps', 'sweep'],
  federation: ['federation', 'today', 'journal'],
  trust: ['anchors', 'anchor', 'trust-stores'],
};

/** Follows the service's events; answers whether the line is open. */
const everyMs = 1000;

export function useLive(): boolean {
  const cache = useQueryClient();
  const [open, setOpen] = useState(false);
  useEffect(() => {
    const source = new EventSource('/api/v1/events');
    const stale = new Set<string>();
    let waiting: ReturnType<typeof setTimeout> | undefined;
    let last = 0;
    const flush = () => {
      waiting = undefined;
      last = Date.now();
      for (const key of stale) void cache.invalidateQueries({ queryKey: [key] });
      stale.clear();
    };
    source.addEventListener('hello', () => {
      setOpen(true);
      void cache.invalidateQueries();
    });
    source.onerror = () => {
      setOpen(false);
    };
    source.addEventListener('change', (e: MessageEvent<string>) => {
      const { noun } = JSON.parse(e.data) as { noun: string };
      for (const key of asks[noun] ?? []) stale.add(key);
      // However many changes there are, a page asks again once a second at most.
      waiting ??= setTimeout(flush, Math.max(0, last + everyMs - Date.now()));
    });
    return () => {
      clearTimeout(waiting);
      source.close();
    };
  }, [cache]);
  return open;
}
