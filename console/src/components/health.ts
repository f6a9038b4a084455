const names: Record<string, string> = {
  'issuer-certificate': 'certificate',
  crl: 'CRL',
  'delta-crl': 'delta CRL',
  ocsp: 'OCSP',
};

/** What is found at an address, in a word. */
export const pointName = (kind: string): string => names[kind] ?? kind;
