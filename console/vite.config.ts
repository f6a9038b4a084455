import { defineConfig } from 'vite';
import react from '@vitejs/plugin-react';

export default defineConfig({
  plugins: [react()],
  html: { cspNonce: '__CSP_NONCE__' },
  build: {
    outDir: '../src/Service/wwwroot',
    emptyOutDir: true,
    assetsInlineLimit: 0, // no data: URIs, so that the policy needs none
    modulePreload: { polyfill: false },
    chunkSizeWarningLimit: 600,
  },
});
