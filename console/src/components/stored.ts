import type { StoredEntry } from '../api/client';

/** What an entry of a store is there for. */
export function usedAs(e: StoredEntry): string {
  if (e.archived) return 'archived';
  if (e.boundTo?.length) return `serves ${e.boundTo.join(', ')}`;
  return e.inUse ? 'in use' : 'kept';
}
