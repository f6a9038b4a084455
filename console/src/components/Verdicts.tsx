import type { NameVerdict } from '../api/client';
import { VerdictState } from './State';

export function Verdicts({ verdicts }: { verdicts: NameVerdict[] }) {
  return (
    <table className="rows" aria-label="Verdicts">
      <thead>
        <tr>
          <th scope="col">Name</th>
          <th scope="col">Verdict</th>
          <th scope="col">Because</th>
        </tr>
      </thead>
      <tbody>
        {verdicts.map((v) => (
          <tr key={v.name}>
            <td className="name">{v.name}</td>
            <td>
              <VerdictState verdict={v.verdict} />
            </td>
            <td>
              {v.evidence} <span className="dim">{v.cure}</span>
            </td>
          </tr>
        ))}
      </tbody>
    </table>
  );
}
