import { useEffect, useState } from 'react';
import { useQueryClient } from '@tanstack/react-query';

/** Which questions have to be asked again when a noun changes. */
const asks: Record<string, string[]> = {
  certificate: ['today', 'certificates', 'certificate', 'services', 'host', 'journal'],
  request: ['today', 'request', 'requests', 'journal'],
  authority: ['authorities', 'health', 'today', 'journal'],
  profile: ['profiles', 'profile', 'journal'],
  order: ['order', 'today', 'certificates', 'certificate', 'host'],
  host: ['today', 'hosts', 'host', 'services', 'certificate', 'certificates'],
  service: ['today', 'services', 'host'],
};

/** Follows the service's events; answers whether the line is open. */
export function useLive(): boolean {
  const cache = useQueryClient();
  const [open, setOpen] = useState(false);
  useEffect(() => {
    const source = new EventSource('/api/v1/events');
    source.addEventListener('hello', () => {
      setOpen(true);
      void cache.invalidateQueries();
    });
    source.onerror = () => {
      setOpen(false);
    };
    source.addEventListener('change', (e: MessageEvent<string>) => {
      const { noun } = JSON.parse(e.data) as { noun: string };
      for (const key of asks[noun] ?? []) void cache.invalidateQueries({ queryKey: [key] });
    });
    return () => {
      source.close();
    };
  }, [cache]);
  return open;
}
