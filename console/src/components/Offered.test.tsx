import { render, screen } from '@testing-library/react';
import { expect, test } from 'vitest';
import { NotOffered, Offered } from './Offered';
import { isDenied, listed } from './session';

const denied = [
  {
    operations: ['renewCertificate', 'changePolicy'],
    reason: 'The certificate "booking" belongs to mo.',
    cure: 'Ask its owner.',
  },
  {
    operations: ['revokeCertificate'],
    reason: 'wren may not do this.',
    cure: 'It is for administrators; ask an administrator to do it.',
  },
];

test('what is denied is not shown, everything else is', () => {
  render(
    <>
      <Offered operation="renewCertificate" denied={denied}>
        Renew now
      </Offered>
      <Offered operation="exportCertificate" denied={denied}>
        Download
      </Offered>
    </>,
  );
  expect(screen.queryByText('Renew now')).toBeNull();
  expect(screen.getByText('Download')).toBeTruthy();
  expect(isDenied('changePolicy', denied)).toBe(true);
  expect(isDenied('changePolicy')).toBe(false);
});

test('why is said once for each reason, for what the page would offer alone', () => {
  render(
    <NotOffered denied={denied} actions={{ renewCertificate: 'renew it', revokeCertificate: 'revoke it' }} />,
  );
  const notes = screen.getAllByRole('note').map((n) => n.textContent);
  expect(notes).toEqual([
    'You may not renew it. The certificate "booking" belongs to mo. Ask its owner.',
    'You may not revoke it. It is for administrators; ask an administrator to do it.',
  ]);
});

test('words are listed as people write them', () => {
  expect(listed(['a'])).toBe('a');
  expect(listed(['a', 'b', 'a', 'c'])).toBe('a, b or c');
});
