import type { Severity } from '../api/client';
import { State } from './State';

const severities: Record<string, Severity> = {
  trusted: 'fine',
  pushed: 'fine',
  lacking: 'soon',
  distrusted: 'failed',
};

/** How a store stands to an anchor, in a word and a shape. */
export function AnchorStanding({ standing }: { standing: string | null }) {
  const word = standing ?? 'not-known';
  return <State severity={severities[word] ?? 'now'} word={word.replace('-', ' ')} />;
}
