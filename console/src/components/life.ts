import type { Severity } from '../api/client';

export interface Life {
  notBefore: string;
  notAfter: string;
  planned: string | null;
  severity?: Severity;
  now: number;
  size?: number;
}

/** Which of the ring's forms a life has now. */
export function formOf({ notAfter, planned, severity, now }: Life): 'whole' | 'due' | 'ended' | 'broken' {
  if (now > Date.parse(notAfter)) return 'ended';
  if (severity === 'failed') return 'broken';
  return planned && now > Date.parse(planned) ? 'due' : 'whole';
}
