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
