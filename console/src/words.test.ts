import { expect, test } from 'vitest';
import { counted, distance, read, when } from './words';

const now = Date.parse('2026-11-25T12:00:00Z');

test.each([
  ['2026-11-25T12:10:00Z', '25 Nov 12:10 · in 10 minutes'],
  ['2026-11-25T11:59:30Z', '25 Nov 11:59 · 30 seconds ago'],
  ['2026-11-25T11:59:59.800Z', '25 Nov 11:59 · just now'],
  ['2027-03-14T12:00:00Z', '14 Mar 2027 · in 109 days'],
  ['2034-11-25T12:00:00Z', '25 Nov 2034 · in 8 years'],
])('%s is told as %s', (iso, text) => {
  expect(when(iso, now)).toBe(text);
});

test('what is read is a list in words', () => {
  expect(read(['logins', 'mail'])).toBe('logins and mail');
  expect(read(['unknown'])).toBe('something');
  expect(read(null)).toBe('traffic');
});

test('nothing is a dash', () => {
  expect(when(null, now)).toBe('–');
});

test('hours lie between minutes and days', () => {
  expect(distance(5 * 3_600_000)).toBe('in 5 hours');
});

test.each([
  [0, 'no host'],
  [1, '1 host'],
  [30_000, '30,000 hosts'],
])('%d hosts are told as %s', (count, text) => {
  expect(counted(count, 'no host', '1 host', 'hosts')).toBe(text);
});
