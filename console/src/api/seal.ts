/**
 * Seals a message to one reader, so that the service between cannot read it: HPKE (RFC 9180), base mode, one message, with
 * DHKEM(P-256, HKDF-SHA256), HKDF-SHA256 and AES-256-GCM. The same as the service's own code, on the browser's primitives.
 */
const utf8 = new TextEncoder();
const kem = Uint8Array.of(0x4b, 0x45, 0x4d, 0x00, 0x10);
const hpke = Uint8Array.of(0x48, 0x50, 0x4b, 0x45, 0x00, 0x10, 0x00, 0x01, 0x00, 0x02);
const keyBytes = 65;
const curve = { name: 'ECDH', namedCurve: 'P-256' };

type Bytes = Uint8Array<ArrayBuffer>;

/** What things are sealed for; the words are those of the service. */
export type Purpose =
  'orderly-beacon import' | 'orderly-beacon passphrase' | 'orderly-beacon export' | 'orderly-beacon device';

const joined = (...parts: Uint8Array[]): Bytes => {
  const all = new Uint8Array(parts.reduce((n, p) => n + p.length, 0));
  let at = 0;
  for (const p of parts) {
    all.set(p, at);
    at += p.length;
  }
  return all;
};

async function hmac(key: Uint8Array, data: Uint8Array): Promise<Bytes> {
  // An empty salt is a block of zeros (RFC 5869 section 2.2).
  const k = await crypto.subtle.importKey(
    'raw',
    key.length === 0 ? new Uint8Array(32) : joined(key),
    { name: 'HMAC', hash: 'SHA-256' },
    false,
    ['sign'],
  );
  return new Uint8Array(await crypto.subtle.sign('HMAC', k, joined(data)));
}

const extract = (suite: Uint8Array, salt: Uint8Array, label: string, input: Uint8Array) =>
  hmac(salt, joined(utf8.encode('HPKE-v1'), suite, utf8.encode(label), input));

/** LabeledExpand (RFC 9180 section 4); at most one block of the hash is ever needed. */
async function expand(
  suite: Uint8Array,
  secret: Uint8Array,
  label: string,
  info: Uint8Array,
  length: number,
) {
  const labelled = joined(
    Uint8Array.of(0, length),
    utf8.encode('HPKE-v1'),
    suite,
    utf8.encode(label),
    info,
    Uint8Array.of(1),
  );
  return (await hmac(secret, labelled)).slice(0, length);
}

async function schedule(agreed: Uint8Array, kemContext: Uint8Array, purpose: string) {
  const none = new Uint8Array();
  const shared = await expand(
    kem,
    await extract(kem, none, 'eae_prk', agreed),
    'shared_secret',
    kemContext,
    32,
  );
  const context = joined(
    Uint8Array.of(0),
    await extract(hpke, none, 'psk_id_hash', none),
    await extract(hpke, none, 'info_hash', utf8.encode(purpose)),
  );
  const secret = await extract(hpke, shared, 'secret', none);
  const key = await crypto.subtle.importKey(
    'raw',
    await expand(hpke, secret, 'key', context, 32),
    'AES-GCM',
    false,
    ['encrypt', 'decrypt'],
  );
  return { key, nonce: await expand(hpke, secret, 'base_nonce', context, 12) };
}

const pair = () => crypto.subtle.generateKey(curve, false, ['deriveBits']);
const rawOf = async (key: CryptoKey) => new Uint8Array(await crypto.subtle.exportKey('raw', key));
const publicOf = (raw: Bytes) => crypto.subtle.importKey('raw', raw, curve, true, []);
const agree = async (own: CryptoKey, other: CryptoKey) =>
  new Uint8Array(await crypto.subtle.deriveBits({ name: 'ECDH', public: other }, own, 256));

export const toBase64 = (bytes: Uint8Array) => {
  let text = '';
  for (let i = 0; i < bytes.length; i += 0x8000)
    text += String.fromCharCode(...bytes.subarray(i, i + 0x8000));
  return btoa(text);
};

export const fromBase64 = (text: string): Bytes => Uint8Array.from(atob(text), (c) => c.charCodeAt(0));

/** @returns Base64, for the holder of `to` alone. */
export async function seal(to: string, purpose: Purpose, content: Uint8Array): Promise<string> {
  const reader = fromBase64(to);
  const own = await pair();
  const enc = await rawOf(own.publicKey);
  const agreed = await agree(own.privateKey, await publicOf(reader));
  const { key, nonce } = await schedule(agreed, joined(enc, reader), purpose);
  const box = new Uint8Array(
    await crypto.subtle.encrypt({ name: 'AES-GCM', iv: nonce }, key, joined(content)),
  );
  return toBase64(joined(enc, box));
}

/** A key of one's own for one answer. */
export async function replyKey() {
  const own = await pair();
  const raw = await rawOf(own.publicKey);
  return {
    publicKey: toBase64(raw),
    open: async (purpose: Purpose, sealed: string): Promise<Bytes> => {
      const bytes = fromBase64(sealed);
      const enc = bytes.slice(0, keyBytes);
      const agreed = await agree(own.privateKey, await publicOf(enc));
      const { key, nonce } = await schedule(agreed, joined(enc, raw), purpose);
      return new Uint8Array(
        await crypto.subtle.decrypt({ name: 'AES-GCM', iv: nonce }, key, bytes.slice(keyBytes)),
      );
    },
  };
}
