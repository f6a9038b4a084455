import { describe, expect, it } from 'vitest';
import { fromBase64, replyKey, seal, toBase64 } from './seal';

const words = new TextEncoder().encode('the key of a ticket gate');

describe('sealing', () => {
  it('opens for its reader and purpose alone', async () => {
    const [reader, other] = [await replyKey(), await replyKey()];
    const sealed = await seal(reader.publicKey, 'orderly-beacon export', words);
    expect(new TextDecoder().decode(await reader.open('orderly-beacon export', sealed))).toBe(
      'the key of a ticket gate',
    );
    await expect(reader.open('orderly-beacon import', sealed)).rejects.toThrow();
    await expect(other.open('orderly-beacon export', sealed)).rejects.toThrow();
    const altered = fromBase64(sealed);
    altered.set([(altered.at(-1) ?? 0) ^ 1], altered.length - 1);
    await expect(reader.open('orderly-beacon export', toBase64(altered))).rejects.toThrow();
  });
});
