import { useRef } from 'react';

/** One idempotency key for one wish: a click that is repeated after a lost answer does it once. */
export function useOnceKey(wish: string): () => string {
  const last = useRef({ wish: '', key: '' });
  return () => {
    if (last.current.wish !== wish) last.current = { wish, key: crypto.randomUUID() };
    return last.current.key;
  };
}
