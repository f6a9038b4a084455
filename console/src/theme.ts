import { createTheme, type CSSVariablesResolver, type MantineColorsTuple } from '@mantine/core';

const sans = '"Inter Variable", "Inter", system-ui, sans-serif';

/** The one hue: what needs a hand. */
const signal: MantineColorsTuple = [
  '#fff1e8',
  '#fbdcc9',
  '#f6b892',
  '#f19359',
  '#e8743b',
  '#d65a1f',
  '#b84713',
  '#96390f',
  '#742d0d',
  '#52200a',
];
const ink: MantineColorsTuple = [
  '#f3f3f2',
  '#e3e3e1',
  '#c7c7c4',
  '#a3a4a3',
  '#7d8083',
  '#5d6166',
  '#454a50',
  '#343940',
  '#262a30',
  '#16191d',
];

export const theme = createTheme({
  fontFamily: sans,
  fontFamilyMonospace: '"DejaVu Sans Mono", ui-monospace, monospace',
  headings: { fontFamily: sans, fontWeight: '650' },
  colors: { signal, ink },
  primaryColor: 'ink',
  primaryShade: { light: 8, dark: 6 },
  autoContrast: true,
  defaultRadius: 'sm',
  fontSizes: { xs: '0.75rem', sm: '0.8125rem', md: '0.875rem', lg: '1rem', xl: '1.125rem' },
});

/** Paper and night; greys that reach WCAG AA's 4.5:1 on both. */
export const cssVariables: CSSVariablesResolver = () => ({
  variables: {},
  light: {
    '--mantine-color-body': '#faf8f4',
    '--mantine-color-text': '#1e2126',
    '--mantine-color-dimmed': '#5a5e63',
    '--mantine-color-placeholder': '#6a6e73',
    '--mantine-color-error': '#96390f',
    '--mantine-color-anchor': '#1e2126',
    '--beacon-paper': '#fffefb',
    '--beacon-line': '#dedad1',
    '--beacon-added': '#e3f1e1',
    '--beacon-removed': '#f8e3dd',
    '--beacon-signal': '#a8400f',
    '--beacon-signal-soft': '#fbe9dd',
    '--beacon-quiet': '#8c8f92',
    '--beacon-used': '#3a3f45',
  },
  dark: {
    '--mantine-color-body': '#14161a',
    '--mantine-color-text': '#e6e3dc',
    '--mantine-color-dimmed': '#a7a9ab',
    '--mantine-color-placeholder': '#9a9da0',
    '--mantine-color-error': '#f19359',
    '--mantine-color-anchor': '#e6e3dc',
    '--beacon-paper': '#1b1e23',
    '--beacon-line': '#33373d',
    '--beacon-added': '#1d3324',
    '--beacon-removed': '#3d2422',
    '--beacon-signal': '#f19359',
    '--beacon-signal-soft': '#33231a',
    '--beacon-quiet': '#7d8083',
    '--beacon-used': '#c7c7c4',
  },
});
