import { useElementSize } from '@mantine/hooks';
import { Link } from 'react-router';
import type { Lookahead as Data, LookaheadItem } from '../api/client';
import { distance, figure, shortHost, when } from '../words';
import classes from './Lookahead.module.css';
import { Scroll } from './Scroll';

const minute = 60_000;
const dayMs = 86_400_000;
const rowHeight = 26;
const densityHeight = 70;
const labelWidth = 250;
const ticks: [number, string][] = [
  [-30 * dayMs, 'past'],
  [10 * minute, '10 min'],
  [60 * minute, '1 h'],
  [6 * 60 * minute, '6 h'],
  [dayMs, '1 day'],
  [7 * dayMs, '1 week'],
  [30 * dayMs, '30 days'],
  [90 * dayMs, '90 days'],
  [365 * dayMs, '1 year'],
  [10 * 365 * dayMs, '10 years'],
];

/**
 * Every life on one axis: minutes beside decades, so the distance from now is logarithmic. A bar is a life, its shaded end the
 * renewal window, the stroke across it the planned renewal; a broken bar is one that nothing renews.
 */
export function Lookahead({ data, now }: { data: Data; now: number }) {
  const { ref, width } = useElementSize();
  const wide = Math.max(width, 640);
  const items = data.items.slice(0, 40);
  // With many certificates the first have their bars; how many expire when is a density over the axis.
  const density = data.density ?? [];
  const all = density.reduce((sum, d) => sum + d.count, 0);
  const dense = all > items.length;
  const top = dense ? densityHeight : 0;
  // The past gets a tenth of the width: what is ahead matters.
  const nowAt = labelWidth + (wide - labelWidth) / 10;
  const x = (t: number) =>
    t >= 0
      ? nowAt +
        (wide - 30 - nowAt) *
          Math.min(1, Math.log1p(t / (5 * minute)) / Math.log1p((22 * 365 * dayMs) / (5 * minute)))
      : nowAt -
        (nowAt - labelWidth) *
          Math.min(1, Math.log1p(-t / (5 * minute)) / Math.log1p((730 * dayMs) / (5 * minute)));
  const at = (iso: string) => x(Date.parse(iso) - now);
  const height = items.length * rowHeight + 34 + top;
  return (
    <Scroll as="div" outer={ref}>
      <svg width={wide} height={height} role="group" aria-label="Every certificate on a time axis">
        {ticks.map(([t, text]) => (
          <g key={t}>
            <line className={classes.grid} x1={x(t)} x2={x(t)} y1={18} y2={height - 6} />
            <text className={classes.small} x={x(t)} y={12} textAnchor="middle">
              {text}
            </text>
          </g>
        ))}
        {dense && <Density density={density} all={all} x={x} now={now} shown={items.length} />}
        {items.map((i, row) => (
          <g key={`${i.kind} ${i.name}`} transform={`translate(0 ${22 + top + row * rowHeight})`}>
            <Row item={i} at={at} now={now} />
          </g>
        ))}
        <line className={classes.now} x1={x(0)} x2={x(0)} y1={16} y2={height - 6} />
        <text className={classes.label} x={x(0)} y={12} textAnchor="middle" fontWeight={650}>
          now
        </text>
      </svg>
    </Scroll>
  );
}

/** How many certificates expire between one mark and the next: taller is more, by the logarithm, with the number on it. */
function Density({
  density,
  all,
  x,
  now,
  shown,
}: {
  density: { until: string; count: number }[];
  all: number;
  x: (t: number) => number;
  now: number;
  shown: number;
}) {
  const tallest = Math.log1p(Math.max(...density.map((d) => d.count)));
  return (
    <g
      role="img"
      aria-label={density.map((d) => `${figure(d.count)} expire ${when(d.until, now)} or before`).join('; ')}
    >
      <text className={classes.label} x={0} y={40}>
        {figure(all)} certificates
      </text>
      <text className={classes.small} x={0} y={56}>
        the first {shown} are below
      </text>
      {density.map((d, i) => {
        const from = x(i === 0 ? 0 : Date.parse(density[i - 1]?.until ?? '') - now);
        const to = x(Date.parse(d.until) - now);
        const tall = d.count === 0 ? 0 : Math.max(3, (44 * Math.log1p(d.count)) / tallest);
        return (
          <g key={d.until}>
            <rect
              className={classes.density}
              x={from + 1}
              y={80 - tall}
              width={Math.max(1, to - from - 2)}
              height={tall}
            />
            {d.count > 0 && (
              <text className={classes.small} x={(from + to) / 2} y={76 - tall} textAnchor="middle">
                {figure(d.count)}
              </text>
            )}
          </g>
        );
      })}
    </g>
  );
}

function renewal(item: LookaheadItem, now: number): string {
  if (item.planned) return `renewal ${when(item.planned, now)}`;
  return item.kind === 'authority' ? 'renewed by hand' : 'nothing renews it';
}

/** What stands at its row; a long name is cut after a label. */
function rowLabel({ kind, name }: LookaheadItem): string {
  if (kind === 'authority') return `▣ ${name}`;
  return name.length > 36 ? `${name.slice(0, name.lastIndexOf('.', 35))}.…` : name;
}

function Row({ item, at, now }: { item: LookaheadItem; at: (iso: string) => number; now: number }) {
  const [from, to] = [at(item.notBefore), at(item.notAfter)];
  const text = `${item.name}${item.host ? ` on ${shortHost(item.host)}` : ''}: ends ${when(item.notAfter, now)}; ${renewal(item, now)}; ${item.state}`;
  const body = (
    <g
      className={classes.row}
      data-severity={item.severity}
      data-unmanaged={!item.planned && item.kind !== 'authority'}
    >
      <title>{text}</title>
      <rect x={0} y={0} width={labelWidth - 8} height={rowHeight} fill="transparent" />
      <text className={item.kind === 'authority' ? classes.small : classes.label} x={0} y={17}>
        {rowLabel(item)}
      </text>
      <line className={classes.life} x1={from} x2={to} y1={13} y2={13} />
      {item.planned && (
        <rect
          className={classes.window}
          x={at(item.planned)}
          y={6}
          width={Math.max(2, to - at(item.planned))}
          height={14}
        />
      )}
      {item.planned && (
        <line className={classes.planned} x1={at(item.planned)} x2={at(item.planned)} y1={4} y2={22} />
      )}
      <line className={classes.end} x1={to} x2={to} y1={7} y2={19} />
    </g>
  );
  return (
    <>
      {item.link ? (
        <Link to={item.link} aria-label={text}>
          {body}
        </Link>
      ) : (
        body
      )}
      {item.severity !== 'fine' && (
        <text className={classes.small} x={to + 8} y={17}>
          {distance(Date.parse(item.notAfter) - now)}
        </text>
      )}
    </>
  );
}
