import type { LookInfo } from '../api/client';
import { read, when } from '../words';
import { State } from './State';

/** What clients met when a service was last looked at. */
export function Looks({ looks, now }: { looks: LookInfo[]; now: number }) {
  return (
    <table className="rows">
      <tbody>
        {looks.map((l) => (
          <tr key={`${l.serverName} ${l.address}:${l.port}`}>
            <td>
              <span className="name">{l.serverName}</span>
              <div className="dim">
                {l.address}:{l.port} {l.versions?.length ? `takes ${l.versions.join(', ')}` : l.protocol}
              </div>
              {l.staple && <div className="dim">stapled answer: {l.staple}</div>}
              {l.readable && (
                <div className="dim">
                  without TLS: {l.readable.length > 0 ? read(l.readable) : 'nothing'} can be read
                </div>
              )}
            </td>
            <td>
              <State
                severity={l.severity}
                word={l.accepted ? 'clients accept it' : 'clients do not accept it'}
              />
              {l.problems.map((p) => (
                <div key={p.fault}>
                  {p.reason} <span className="dim">{p.cure}</span>
                </div>
              ))}
              <div className="dim">{when(l.at, now)}</div>
            </td>
          </tr>
        ))}
      </tbody>
    </table>
  );
}
