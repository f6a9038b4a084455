import { Title } from '@mantine/core';
import { useQuery } from '@tanstack/react-query';
import { api, take } from '../api/client';
import { BringAnswer } from './OutsideRequest';
import { commonName, when } from '../words';
import { Scroll } from './Scroll';

/** Authorities that are not ours, and where their answers are brought. */
export function OutsideAuthorities({ now }: { now: number }) {
  const { data } = useQuery({ queryKey: ['outside'], queryFn: () => take(api.GET('/api/v1/outside')) });
  if (!data?.length) return null;
  return (
    <Scroll className="sheet" label="Authorities outside">
      <Title order={3} fz="md">
        Authorities outside, asked by hand
      </Title>
      <table className="rows">
        <thead>
          <tr>
            <th scope="col">Authority</th>
            <th scope="col">Subject besides the name</th>
            <th scope="col">Trusted by</th>
            <th scope="col">How a request is handed in</th>
          </tr>
        </thead>
        <tbody>
          {data.map((o) => (
            <tr key={o.name}>
              <td>
                {o.title} <span className="dim">{o.name}</span>
              </td>
              <td>{o.subject}</td>
              <td>
                {o.certificates
                  .filter((c) => c.kind === 'anchor')
                  .map((c) => (
                    <div key={c.thumbprint} title={`SHA-256 ${c.thumbprint}`}>
                      {commonName(c.subject)}, until {when(c.notAfter, now)}
                    </div>
                  ))}
              </td>
              <td>{o.note}</td>
            </tr>
          ))}
        </tbody>
      </table>
      <BringAnswer onTaken={() => undefined} />
    </Scroll>
  );
}
