import { useState } from 'react';
import { Select } from '@mantine/core';
import { useDebouncedValue } from '@mantine/hooks';
import { keepPreviousData, useQuery } from '@tanstack/react-query';
import { api, take } from '../api/client';

interface Props {
  label: string;
  description?: string;
  /** What it says while no host is chosen. */
  none: string;
  width: number;
  value: string;
  onChange: (host: string) => void;
}

/** One host among those that are connected, found by a part of its name: there may be too many to list. */
export function HostPick({ label, description, none, width, value, onChange }: Props) {
  const [part, setPart] = useState('');
  const [asked] = useDebouncedValue(part.trim(), 250);
  const hosts = useQuery({
    queryKey: ['hosts', 'connected', asked],
    queryFn: () =>
      take(api.GET('/api/v1/hosts', { params: { query: { state: 'connected', search: asked, take: 50 } } })),
    placeholderData: keepPreviousData,
  });
  const names = (hosts.data?.items ?? []).map((h) => h.name);
  return (
    <Select
      label={label}
      description={description}
      w={width}
      placeholder={none}
      searchable
      clearable
      clearButtonProps={{ 'aria-label': 'Clear the host' }}
      nothingFoundMessage="No connected host has that in its name."
      onSearchChange={(text) => {
        setPart(text === value ? '' : text);
      }}
      data={!value || names.includes(value) ? names : [value, ...names]}
      value={value || null}
      onChange={(v) => {
        onChange(v ?? '');
      }}
    />
  );
}
