import { Loader, Stack, Title } from '@mantine/core';
import { useQuery } from '@tanstack/react-query';
import { Link } from 'react-router';
import { api, take } from '../api/client';
import { CommandLine, Failure } from '../components/Bits';
import { offeredWord } from '../components/profiles';
import { State } from '../components/State';
import { Scroll } from '../components/Scroll';

/** What may be asked for, by whom, and who must agree. */
export function Profiles() {
  const { data, error } = useQuery({
    queryKey: ['profiles'],
    queryFn: () => take(api.GET('/api/v1/profiles')),
  });
  if (error && !data) return <Failure error={error} />;
  if (!data) return <Loader aria-label="Loading" />;
  return (
    <Stack gap="md">
      <Title order={2} fz={22}>
        Profiles
      </Title>
      <Scroll as="div" className="sheet">
        <table className="rows" aria-label="Profiles">
          <thead>
            <tr>
              <th scope="col">Profile</th>
              <th scope="col">State</th>
              <th scope="col">Life</th>
              <th scope="col">Usage</th>
              <th scope="col">Approval</th>
              <th scope="col">Purpose</th>
            </tr>
          </thead>
          <tbody>
            {data.map((p) => (
              <tr key={p.id}>
                <td className="name nowrap">
                  <Link to={`/profiles/${p.id}`}>{p.id}</Link>
                </td>
                <td className="nowrap">
                  <State
                    severity={p.forPeople && !p.offered ? 'soon' : 'fine'}
                    word={offeredWord(p, "the system's")}
                  />
                </td>
                <td>{p.life}</td>
                <td>{[...p.keyUsage, ...p.extendedKeyUsage].join(', ')}</td>
                <td>{p.approval}</td>
                <td className="dim">{p.purpose}</td>
              </tr>
            ))}
          </tbody>
        </table>
      </Scroll>
      <CommandLine command="beacon profile copy server depot" />
    </Stack>
  );
}
