import { expect, test } from 'vitest';
import { formOf } from './life';

const life = {
  notBefore: '2026-01-01T00:00:00Z',
  notAfter: '2026-04-01T00:00:00Z',
  planned: '2026-03-01T00:00:00Z',
};

test.each([
  ['2026-02-01T00:00:00Z', 'fine', 'whole'],
  ['2026-03-02T00:00:00Z', 'fine', 'due'],
  ['2026-02-01T00:00:00Z', 'failed', 'broken'],
  ['2026-04-02T00:00:00Z', 'failed', 'ended'],
] as const)('at %s and %s it is %s', (at, severity, form) => {
  expect(formOf({ ...life, severity, now: Date.parse(at) })).toBe(form);
});
