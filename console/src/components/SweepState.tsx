import type { SweepInfo } from '../api/client';

const shapes: Record<string, string> = { running: '◐', done: '○', stopped: '◐', failed: '◆' };

/** How far a sweep is, in a word and a shape. */
export function SweepState({ sweep: s }: { sweep: SweepInfo }) {
  const word: string = s.state;
  return (
    <span className="nowrap">
      {shapes[word] ?? '◆'} {word}
    </span>
  );
}
