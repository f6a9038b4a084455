import { render, screen } from '@testing-library/react';
import { expect, test } from 'vitest';
import type { LookInfo } from '../api/client';
import { Looks } from './Looks';

const look: LookInfo = {
  address: '127.0.0.1',
  port: 587,
  serverName: 'mail.thistledown.example',
  at: '2026-11-28T12:00:00Z',
  outcome: 'served',
  protocol: 'TLS 1.3',
  accepted: true,
  severity: 'soon',
  problems: [],
  chainSteps: [],
  served: null,
  from: 'the service',
};

test('what only somebody who looks asks for is shown where it is known', () => {
  const { rerender } = render(<Looks looks={[look]} now={0} />);
  expect(screen.getByText('127.0.0.1:587 TLS 1.3')).toBeTruthy();
  expect(screen.queryByText(/stapled answer|without TLS/)).toBeNull();
  const whole: LookInfo = {
    ...look,
    versions: ['TLS 1.2', 'TLS 1.3'],
    staple: 'good, until 2026-12-01 08:00 UTC',
    readable: ['logins', 'mail'],
  };
  rerender(<Looks looks={[whole]} now={0} />);
  expect(screen.getByText('127.0.0.1:587 takes TLS 1.2, TLS 1.3')).toBeTruthy();
  expect(screen.getByText('stapled answer: good, until 2026-12-01 08:00 UTC')).toBeTruthy();
  expect(screen.getByText('without TLS: logins and mail can be read')).toBeTruthy();
  rerender(<Looks looks={[{ ...whole, readable: [] }]} now={0} />);
  expect(screen.getByText('without TLS: nothing can be read')).toBeTruthy();
});
