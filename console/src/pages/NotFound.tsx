import { Stack, Text, Title } from '@mantine/core';
import { Link } from 'react-router';

export function NotFound() {
  return (
    <Stack>
      <Title order={2}>There is no such page</Title>
      <Text>
        Go to <Link to="/">Today</Link>, or search with the slash key.
      </Text>
    </Stack>
  );
}
