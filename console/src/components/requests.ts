import type { RequestInfo } from '../api/client';

/** How much each state of a request needs a hand. */
export const requestSeverity = {
  issued: 'fine',
  refused: 'failed',
  'waiting-for-approval': 'soon',
  'waiting-for-host': 'soon',
  'waiting-outside': 'soon',
  draft: 'soon',
  withdrawn: 'fine',
} as const;

/** A request's state as people say it. */
export const requestWord = (r: RequestInfo): string =>
  r.waitsForDns ? 'waiting for DNS' : r.state.replaceAll('-', ' ');
