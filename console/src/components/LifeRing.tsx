import { formOf, type Life } from './life';
import classes from './LifeRing.module.css';

const r = 8;
const round = 2 * Math.PI * r;

/**
 * The life ring: fills as the life is used, clockwise from the top; a notch marks the planned renewal.
 * Past the notch it becomes a square; failed, it is broken; past its end, it is filled.
 */
export function LifeRing(life: Life) {
  const { notBefore, notAfter, planned, now, size = 20 } = life;
  const from = Date.parse(notBefore);
  const span = Math.max(1, Date.parse(notAfter) - from);
  const used = Math.min(1, Math.max(0, (now - from) / span));
  const notch = planned ? (Date.parse(planned) - from) / span : null;
  const form = formOf(life);
  const words = { whole: '', due: ', due for renewal', ended: ', ended', broken: ', renewal failed' }[form];
  return (
    <svg
      className={classes.ring}
      data-form={form}
      width={size}
      height={size}
      viewBox="0 0 22 22"
      role="img"
      aria-label={`${Math.round(used * 100)} % of its life used${words}`}
    >
      {form === 'ended' && <rect x="4" y="4" width="14" height="14" className={classes.solid} />}
      {form === 'due' && (
        <>
          <rect x="3.5" y="3.5" width="15" height="15" className={classes.track} />
          <rect
            x="3.5"
            y="3.5"
            width="15"
            height="15"
            className={classes.used}
            pathLength={1}
            strokeDasharray={`${used} 1`}
          />
        </>
      )}
      {(form === 'whole' || form === 'broken') && (
        <g transform="rotate(-90 11 11)">
          <circle
            cx="11"
            cy="11"
            r={r}
            className={classes.track}
            strokeDasharray={form === 'broken' ? '5 3.4' : undefined}
          />
          <circle
            cx="11"
            cy="11"
            r={r}
            className={classes.used}
            strokeDasharray={form === 'broken' ? '5 3.4' : `${used * round} ${round}`}
          />
          {notch !== null && (
            <line
              x1="14.5"
              y1="11"
              x2="22"
              y2="11"
              className={classes.notch}
              transform={`rotate(${notch * 360} 11 11)`}
            />
          )}
        </g>
      )}
    </svg>
  );
}
