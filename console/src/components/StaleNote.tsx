import { useCallback, useSyncExternalStore } from 'react';
import { useQueryClient } from '@tanstack/react-query';

/** Above what is shown still: some of it could not be read again. What was there stays. */
export function StaleNote() {
  const cache = useQueryClient().getQueryCache();
  const subscribe = useCallback((told: () => void) => cache.subscribe(told), [cache]);
  const message = useSyncExternalStore(
    subscribe,
    () =>
      cache.getAll().find((q) => q.isActive() && q.state.status === 'error' && q.state.data !== undefined)
        ?.state.error?.message ?? null,
  );
  return message === null ? null : (
    <div role="status" className="sheet" data-testid="stale">
      ◆ This could not be read again, so it may be old: {message}
    </div>
  );
}
