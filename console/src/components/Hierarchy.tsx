import { useElementSize } from '@mantine/hooks';
import type { HealthGeneration, HealthPoint, HealthReport } from '../api/client';
import { day } from '../words';
import { pointName } from './health';
import classes from './Hierarchy.module.css';
import { shapes } from './shapes';
import { Scroll } from './Scroll';

const labelWidth = 205;
const rowHeight = 62;
const yearMs = 365.25 * 86_400_000;

interface Row {
  key: string;
  authority: string;
  title: string;
  g: HealthGeneration;
  first: boolean;
}

/**
 * Who signed whom, over the years: each generation of each authority is a bar from its beginning to its end; a line comes down from
 * the one that signed it at the moment it did. Under a bar stand its posts, the addresses where clients fetch what belongs to its key.
 */
export function Hierarchy({ report, now }: { report: HealthReport; now: number }) {
  const { ref, width } = useElementSize();
  const wide = Math.max(width, 720);
  const rows: Row[] = report.authorities.flatMap((a) =>
    a.generations
      .filter((g) => g.state !== 'withdrawn')
      .map((g, i) => ({ key: `${a.id}/${g.number}`, authority: a.id, title: a.name, g, first: i === 0 })),
  );
  const dates = rows.flatMap((r) => [r.g.notBefore, r.g.notAfter]).flatMap((d) => (d ? [Date.parse(d)] : []));
  const from = Math.min(now - yearMs / 2, ...dates);
  const to = Math.max(now + yearMs, ...dates);
  const x = (t: number) => labelWidth + ((wide - labelWidth - 24) * (t - from)) / (to - from);
  const step = [1, 2, 5, 10, 20].find((s) => (to - from) / yearMs / s <= 12) ?? 50;
  const firstYear = Math.ceil(new Date(from).getUTCFullYear() / step + 0.01) * step;
  // The word "now" needs its room.
  const years = Array.from({ length: 60 }, (_, i) => firstYear + i * step).filter(
    (y) => Date.UTC(y, 0) < to && Math.abs(x(Date.UTC(y, 0)) - x(now) - 16) > 34,
  );
  const top = 26;
  const height = top + rows.length * rowHeight + 4;
  const yOf = (key: string) => top + rows.findIndex((r) => r.key === key) * rowHeight;
  return (
    <Scroll as="div" outer={ref}>
      <svg
        width={wide}
        height={height}
        role="group"
        aria-label="The hierarchy over the years, with the addresses of each key"
      >
        {years.map((y) => (
          <g key={y}>
            <line
              className={classes.grid}
              x1={x(Date.UTC(y, 0))}
              x2={x(Date.UTC(y, 0))}
              y1={18}
              y2={height - 4}
            />
            <text className={classes.small} x={x(Date.UTC(y, 0))} y={12} textAnchor="middle">
              {y}
            </text>
          </g>
        ))}
        <line className={classes.now} x1={x(now)} x2={x(now)} y1={4} y2={height - 4} />
        <text className={classes.small} x={x(now) + 4} y={12} fontWeight={650}>
          now
        </text>
        {rows.map((r) => {
          const by = r.g.signedBy && `${r.g.signedBy.authority}/${r.g.signedBy.generation}`;
          if (!by || !r.g.notBefore || yOf(by) < top) return null;
          const at = x(Date.parse(r.g.notBefore)) + 7;
          return (
            <path
              key={`${r.key} signed`}
              className={classes.link}
              d={`M${at} ${yOf(by) + 20}V${yOf(r.key) + 2}`}
            >
              <title>{`signed on ${day(r.g.notBefore)}`}</title>
            </path>
          );
        })}
        {rows.map((r) => (
          <Generation key={r.key} row={r} y={yOf(r.key)} x={x} now={now} wide={wide} />
        ))}
      </svg>
    </Scroll>
  );
}

function Generation({
  row,
  y,
  x,
  now,
  wide,
}: {
  row: Row;
  y: number;
  x: (t: number) => number;
  now: number;
  wide: number;
}) {
  const { g } = row;
  const a = g.notBefore ? x(Date.parse(g.notBefore)) : x(now);
  const b = g.notAfter ? x(Date.parse(g.notAfter)) : wide - 24;
  const hurt = g.findings.some((f) => f.severity === 'now' || f.severity === 'failed');
  const last = g.lastEditionEnds ? x(Date.parse(g.lastEditionEnds)) : null;
  const long = b - a > 190;
  const words = `${g.key || 'no certificate yet'}${g.key ? ` · key ${g.keyNumber} ${g.keyState}` : ''}`;
  return (
    <g>
      <text className={classes.name} x={0} y={y + 13}>
        {row.first ? row.title : ''}
      </text>
      <text className={classes.small} x={0} y={y + (row.first ? 28 : 13)}>
        generation {g.number}, {g.state.replace('-', ' ')}
      </text>
      <rect
        className={classes.bar}
        data-state={g.state}
        data-hurt={hurt}
        x={a}
        y={y + 2}
        width={Math.max(3, b - a)}
        height={18}
        rx={3}
      >
        <title>
          {g.notBefore && g.notAfter
            ? `${day(g.notBefore)} to ${day(g.notAfter)}, serial ${g.serial}`
            : words}
        </title>
      </rect>
      <text
        className={long ? classes.inside : classes.small}
        data-state={hurt ? 'in-use' : g.state}
        x={long ? a + 14 : a + 8}
        y={long ? y + 15 : y + 33}
      >
        {words}
        {g.notAfter ? `, until ${day(g.notAfter)}` : ''}
      </text>
      {last !== null && (
        <rect
          className={classes.editions}
          x={x(now)}
          y={y + 22}
          width={Math.max(2, last - x(now))}
          height={4}
        >
          <title>{`${g.editions} editions good, the last until ${day(g.lastEditionEnds ?? '')}`}</title>
        </rect>
      )}
      <Posts points={g.points} x={Math.max(labelWidth, a) + 20} y={y + (long ? 32 : 40)} />
    </g>
  );
}

function Posts({ points, x, y }: { points: HealthPoint[]; x: number; y: number }) {
  const order = ['issuer-certificate', 'crl', 'delta-crl', 'ocsp'];
  const sorted = [...points].sort((p, q) => order.indexOf(p.kind) - order.indexOf(q.kind));
  return sorted.map((p, i) => (
    <g
      key={`${p.kind} ${p.uri}`}
      className={classes.post}
      data-hurt={p.severity !== 'fine'}
      transform={`translate(${x + i * 118} ${y})`}
    >
      <a
        href={`#${encodeURIComponent(`${p.kind} ${p.uri}`)}`}
        aria-label={`${pointName(p.kind)} at ${p.uri}: ${p.told}`}
      >
        <title>{`${p.uri}: ${p.told}`}</title>
        <svg width="14" height="14" viewBox="0 0 14 14" y={1}>
          {shapes[p.severity]}
        </svg>
        <text x={19} y={12}>
          {pointName(p.kind)}
        </text>
      </a>
    </g>
  ));
}
