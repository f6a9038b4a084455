/** Dates and distances in words, the same everywhere. */

const months = ['Jan', 'Feb', 'Mar', 'Apr', 'May', 'Jun', 'Jul', 'Aug', 'Sep', 'Oct', 'Nov', 'Dec'];

export function day(iso: string): string {
  const d = new Date(iso);
  return `${d.getUTCDate()} ${months[d.getUTCMonth()] ?? ''} ${d.getUTCFullYear()}`;
}

export function clock(iso: string): string {
  return new Date(iso).toISOString().slice(11, 19);
}

/** The longest first; each begins at one and a half of it, in seconds. */
const units: [number, string][] = [
  [365 * 86_400, 'years'],
  [86_400, 'days'],
  [3600, 'hours'],
  [60, 'minutes'],
];

export function distance(ms: number): string {
  const a = Math.abs(ms) / 1000;
  if (a < 5) return ms < 0 ? 'just now' : 'now';
  const [length, unit] = units.find(([seconds]) => a >= 1.5 * seconds) ?? [1, 'seconds'];
  const text = `${Math.round(a / length)} ${unit}`;
  return ms < 0 ? `${text} ago` : `in ${text}`;
}

/** An absolute date with the distance beside it: near ones with the time of day. */
export function when(iso: string | null | undefined, now: number): string {
  if (!iso) return '–';
  const left = new Date(iso).getTime() - now;
  const near = Math.abs(left) < 1.5 * 86_400_000;
  return `${near ? `${day(iso).replace(/ \d+$/, '')} ${clock(iso).slice(0, 5)}` : day(iso)} · ${distance(left)}`;
}

const grouped = new Intl.NumberFormat('en');

/** A count as people read it: 30,000. */
export const figure = (count: number): string => grouped.format(count);

/** How many there are, in words: none, one, or "5 things" and so on. */
export function counted(count: number, none: string, one: string, many: string): string {
  if (count === 0) return none;
  return count === 1 ? one : `${figure(count)} ${many}`;
}

/** A word as a shell takes it: as it is where that is safe, else in single quotes. */
export const shellWord = (word: string): string =>
  /^[\w.\-/:@+,=]+$/.test(word) ? word : `'${word.replaceAll("'", "'\\''")}'`;

export const shortHost = (name: string): string => name.split('.')[0] ?? name;

/** As people call an issuer or a subject; the whole name belongs into a title. */
export const commonName = (name: string | null): string =>
  /(?:^|,)CN=((?:\\.|[^,])+)/.exec(name ?? '')?.[1] ?? name ?? '';

/** What a listener on the wire reads: "logins and mail". */
export function read(what: unknown[] | null | undefined): string {
  const words = (what ?? []).map((w) => (w === 'unknown' ? 'something' : String(w)));
  if (words.length === 0) return 'traffic';
  return words.length === 1 ? (words[0] ?? '') : `${words.slice(0, -1).join(', ')} and ${words.at(-1) ?? ''}`;
}

/** What is taken back of what was required of a service from here. */
export function backWord(s: { requiresTls?: boolean }): string {
  return s.requiresTls ? 'Allow clear text' : 'Allow old versions';
}
