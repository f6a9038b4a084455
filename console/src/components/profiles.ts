import type { ProfileInfo } from '../api/client';

/** Whether people may choose it, in a word. */
export function offeredWord(p: ProfileInfo, ofTheSystem: string): string {
  if (!p.forPeople) return ofTheSystem;
  return p.offered ? 'offered' : 'withdrawn';
}
