/** Names that a certificate lacks and nobody has said are meant to be left out. */
export const unsaid = (uncovered: string[] | undefined, said: string[]): string[] =>
  (uncovered ?? []).filter((n) => !said.includes(n));
