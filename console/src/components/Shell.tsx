import { useEffect, useRef, useState } from 'react';
import {
  ActionIcon,
  AppShell,
  Burger,
  Button,
  Group,
  Loader,
  NavLink,
  Text,
  TextInput,
  useComputedColorScheme,
  useMantineColorScheme,
} from '@mantine/core';
import { useDisclosure } from '@mantine/hooks';
import {
  IconBinaryTree,
  IconBook2,
  IconCertificate,
  IconCirclePlus,
  IconInbox,
  IconKey,
  IconMail,
  IconSignature,
  IconMoon,
  IconRadar2,
  IconRuler2,
  IconSearch,
  IconServer2,
  IconShieldCheck,
  IconSun,
  IconSunrise,
  IconUsers,
  IconWorld,
} from '@tabler/icons-react';
import { StaleNote } from './StaleNote';
import { Link, Navigate, Outlet, useLocation, useNavigate } from 'react-router';
import { api, ProblemError, take, type Denied, type Operation } from '../api/client';
import { shortHost } from '../words';
import { useLive } from '../api/live';
import { Failure } from './Bits';
import { isDenied, useSession } from './session';
import { useHeading } from './useHeading';
import { Prove } from './Prove';

const places: { to: string; label: string; Icon: typeof IconBook2; needs?: Operation }[] = [
  { to: '/', label: 'Today', Icon: IconSunrise },
  { to: '/certificates', label: 'Certificates', Icon: IconCertificate },
  { to: '/new', label: 'New certificate', Icon: IconCirclePlus, needs: 'submitRequest' },
  { to: '/requests', label: 'Requests', Icon: IconInbox },
  { to: '/hosts', label: 'Hosts and services', Icon: IconServer2 },
  { to: '/stores', label: 'Stores', Icon: IconKey },
  { to: '/trust', label: 'Trust', Icon: IconShieldCheck },
  { to: '/mail', label: 'Mail', Icon: IconMail },
  { to: '/federation', label: 'Federation', Icon: IconSignature },
  { to: '/sweeps', label: 'Sweeps', Icon: IconRadar2 },
  { to: '/domain', label: 'Domain', Icon: IconWorld },
  { to: '/authorities', label: 'Authorities', Icon: IconBinaryTree },
  { to: '/profiles', label: 'Profiles', Icon: IconRuler2 },
  { to: '/people', label: 'People', Icon: IconUsers, needs: 'listPeople' },
  { to: '/journal', label: 'Journal', Icon: IconBook2 },
];

export function Shell() {
  const session = useSession();
  if (session.error instanceof ProblemError && session.error.code === 'not-signed-in')
    return <Navigate to="/sign-in" replace />;
  if (session.error) return <Failure error={session.error} />;
  if (!session.data) return <Loader aria-label="Loading" m="xl" />;
  return <Frame person={session.data.name} denied={session.data.denied} />;
}

function Frame({ person, denied }: { person: string; denied: Denied[] | undefined }) {
  const [opened, { toggle, close }] = useDisclosure();
  const { setColorScheme } = useMantineColorScheme();
  const scheme = useComputedColorScheme('light');
  const { pathname } = useLocation();
  const live = useLive();
  useHeading(pathname);
  const shown = places.filter((p) => !p.needs || !isDenied(p.needs, denied));
  const other = scheme === 'dark' ? 'light' : 'dark';
  return (
    <AppShell
      header={{ height: 52 }}
      navbar={{ width: 210, breakpoint: 'sm', collapsed: { mobile: !opened } }}
      padding="md"
    >
      <AppShell.Header bg="var(--beacon-paper)">
        <Group h="100%" px="md" justify="space-between" wrap="nowrap">
          <Group gap="xs" wrap="nowrap">
            <Burger opened={opened} onClick={toggle} hiddenFrom="sm" size="sm" aria-label="Menu" />
            <img src="/icon.svg" width={24} height={24} alt="" />
            <Text component="h1" fw={650} fz="lg" className="nowrap">
              Orderly Beacon
            </Text>
          </Group>
          <Search />
          <Group gap="sm" wrap="nowrap">
            <Text size="xs" c="dimmed" className="nowrap" data-testid="live" role="status">
              {live ? '● live' : '✕ disconnected'}
            </Text>
            <ActionIcon
              variant="default"
              aria-label={`Use the ${other} theme`}
              onClick={() => {
                setColorScheme(other);
              }}
            >
              {scheme === 'dark' ? <IconSun size={16} /> : <IconMoon size={16} />}
            </ActionIcon>
            <SignOut person={person} />
          </Group>
        </Group>
      </AppShell.Header>
      <AppShell.Navbar p="xs" bg="var(--beacon-paper)" aria-label="Pages">
        {shown.map(({ to, label, Icon }) => (
          <NavLink
            key={to}
            component={Link}
            to={to}
            label={label}
            onClick={close}
            active={to === '/' ? pathname === '/' : pathname.startsWith(to)}
            aria-current={pathname === to ? 'page' : undefined}
            leftSection={<Icon size={17} aria-hidden />}
            color="ink"
            variant="light"
            styles={{ label: { fontSize: '0.875rem', color: 'var(--mantine-color-text)' } }}
          />
        ))}
      </AppShell.Navbar>
      <AppShell.Main>
        <Prove person={person} />
        <StaleNote />
        <Outlet />
      </AppShell.Main>
    </AppShell>
  );
}

function SignOut({ person }: { person: string }) {
  return (
    <Button
      size="compact-sm"
      variant="default"
      onClick={() => {
        void api.DELETE('/api/v1/session').finally(() => {
          location.assign('/sign-in');
        });
      }}
    >
      Sign out {person}
    </Button>
  );
}

/** A request by its number, a host by its whole or its first name; anything else is looked for among certificates. */
async function pageOf(text: string): Promise<string> {
  if (/^#?\d{1,9}$/.test(text)) return `/requests/${text.replace('#', '')}`;
  const wanted = text.toLowerCase();
  try {
    const { items } = await take(api.GET('/api/v1/hosts', { params: { query: { search: text, take: 50 } } }));
    const [only, ...others] = items.filter((h) => h.name === wanted || shortHost(h.name) === wanted);
    if (only && others.length === 0) return `/hosts/${encodeURIComponent(only.name)}`;
  } catch {
    // Whoever finds no host finds certificates; what is wrong is told there.
  }
  return `/certificates?search=${encodeURIComponent(text)}`;
}

/** One field for names, serials, fingerprints, hosts and numbers of requests; a slash reaches it. */
function Search() {
  const [text, setText] = useState('');
  const field = useRef<HTMLInputElement>(null);
  const go = useNavigate();
  useEffect(() => {
    const onKey = (e: KeyboardEvent) => {
      const target = e.target as HTMLElement;
      if (e.key !== '/' || ['INPUT', 'TEXTAREA', 'SELECT'].includes(target.tagName)) return;
      e.preventDefault();
      field.current?.focus();
    };
    document.addEventListener('keydown', onKey);
    return () => {
      document.removeEventListener('keydown', onKey);
    };
  }, []);
  return (
    <form
      role="search"
      onSubmit={(e) => {
        e.preventDefault();
        const t = text.trim();
        if (t) void pageOf(t).then((page) => go(page));
      }}
    >
      <TextInput
        ref={field}
        w={330}
        size="xs"
        value={text}
        onChange={(e) => {
          setText(e.currentTarget.value);
        }}
        aria-label="Search names, serials, fingerprints and request numbers"
        placeholder="Name, serial, fingerprint or request  ( / )"
        leftSection={<IconSearch size={14} aria-hidden />}
      />
    </form>
  );
}
