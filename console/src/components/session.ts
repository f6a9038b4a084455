import { useQuery } from '@tanstack/react-query';
import { api, take, type Denied, type Operation } from '../api/client';

/** Who is signed in, and what their groups do not allow. */
export function useSession() {
  return useQuery({
    queryKey: ['session'],
    queryFn: () => take(api.GET('/api/v1/session')),
    staleTime: 60_000,
  });
}

/** What their groups do not allow, whatever it is about. */
export function useDenied(): Denied[] {
  return useSession().data?.denied ?? [];
}

export function isDenied(operation: Operation, denied: Denied[] = []): boolean {
  return denied.some((d) => d.operations.includes(operation));
}

/** Words as people list them. */
export function listed(words: string[]): string {
  const all = [...new Set(words)];
  return all.length < 2 ? (all[0] ?? '') : `${all.slice(0, -1).join(', ')} or ${all[all.length - 1]}`;
}
