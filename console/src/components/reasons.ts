/** Reasons for which a person revokes, as RFC 5280 section 5.3.1 names them. */
export const reasons = [
  'unspecified',
  'key-compromise',
  'affiliation-changed',
  'superseded',
  'cessation-of-operation',
  'privilege-withdrawn',
  'hold',
];
