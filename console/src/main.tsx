import '@fontsource-variable/inter/wght.css';
import '@mantine/core/styles.css';
import './global.css';
import { StrictMode } from 'react';
import { createRoot } from 'react-dom/client';
import { MantineProvider } from '@mantine/core';
import { QueryClient, QueryClientProvider } from '@tanstack/react-query';
import { setNonce } from 'get-nonce';
import { createBrowserRouter } from 'react-router';
import { RouterProvider } from 'react-router/dom';
import { ProblemError } from './api/client';
import { Shell } from './components/Shell';
import { cssVariables, theme } from './theme';

const nonce = document.querySelector<HTMLMetaElement>('meta[property="csp-nonce"]')?.nonce ?? '';
setNonce(nonce); // the scroll lock of Modal and Drawer adds a style element of its own

const queries = new QueryClient({
  defaultOptions: {
    queries: {
      staleTime: 10_000,
      retry: (count, e) => !(e instanceof ProblemError) && count < 2,
    },
  },
});
const router = createBrowserRouter([
  {
    path: '/sign-in',
    HydrateFallback: () => null,
    lazy: async () => ({ Component: (await import('./pages/SignIn')).SignIn }),
  },
  {
    path: '/',
    Component: Shell,
    HydrateFallback: () => null,
    children: [
      { index: true, lazy: async () => ({ Component: (await import('./pages/Today')).Today }) },
      {
        path: 'certificates',
        lazy: async () => ({ Component: (await import('./pages/Certificates')).Certificates }),
      },
      {
        path: 'certificates/:name',
        lazy: async () => ({ Component: (await import('./pages/Certificate')).Certificate }),
      },
      {
        path: 'new',
        lazy: async () => ({ Component: (await import('./pages/NewCertificate')).NewCertificate }),
      },
      {
        path: 'new/csr',
        lazy: async () => ({ Component: (await import('./pages/BringRequest')).BringRequest }),
      },
      {
        path: 'requests/:number',
        lazy: async () => ({ Component: (await import('./pages/Request')).Request }),
      },
      {
        path: 'requests',
        lazy: async () => ({ Component: (await import('./pages/Requests')).Requests }),
      },
      {
        path: 'authorities',
        lazy: async () => ({ Component: (await import('./pages/Authorities')).Authorities }),
      },
      {
        path: 'profiles',
        lazy: async () => ({ Component: (await import('./pages/Profiles')).Profiles }),
      },
      {
        path: 'profiles/:id',
        lazy: async () => ({ Component: (await import('./pages/Profile')).Profile }),
      },
      { path: 'hosts', lazy: async () => ({ Component: (await import('./pages/Hosts')).Hosts }) },
      { path: 'hosts/:name', lazy: async () => ({ Component: (await import('./pages/Host')).Host }) },
      { path: 'stores', lazy: async () => ({ Component: (await import('./pages/Stores')).Stores }) },
      { path: 'trust', lazy: async () => ({ Component: (await import('./pages/Trust')).Trust }) },
      { path: 'trust/:anchor', lazy: async () => ({ Component: (await import('./pages/Anchor')).Anchor }) },
      { path: 'mail', lazy: async () => ({ Component: (await import('./pages/Mail')).Mail }) },
      {
        path: 'federation',
        lazy: async () => ({ Component: (await import('./pages/Federation')).Federation }),
      },
      {
        path: 'federation/:number',
        lazy: async () => ({ Component: (await import('./pages/Provider')).Provider }),
      },
      { path: 'sweeps', lazy: async () => ({ Component: (await import('./pages/Sweeps')).Sweeps }) },
      { path: 'sweeps/:number', lazy: async () => ({ Component: (await import('./pages/Sweep')).Sweep }) },
      { path: 'domain', lazy: async () => ({ Component: (await import('./pages/Domain')).Domain }) },
      { path: 'people', lazy: async () => ({ Component: (await import('./pages/People')).People }) },
      { path: 'journal', lazy: async () => ({ Component: (await import('./pages/Journal')).Journal }) },
      { path: '*', lazy: async () => ({ Component: (await import('./pages/NotFound')).NotFound }) },
    ],
  },
]);

const root = document.getElementById('root');
if (!root) throw new Error('no root');
createRoot(root).render(
  <StrictMode>
    <MantineProvider
      theme={theme}
      cssVariablesResolver={cssVariables}
      defaultColorScheme="auto"
      getStyleNonce={() => nonce}
    >
      <QueryClientProvider client={queries}>
        <RouterProvider router={router} />
      </QueryClientProvider>
    </MantineProvider>
  </StrictMode>,
);
