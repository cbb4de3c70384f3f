import react from '@vitejs/plugin-react';
import { defineConfig } from 'vitest/config';

export default defineConfig({
  plugins: [react()],
  build: {
    target: 'es2023',
    // The grid is large, and only the page of nodes loads it.
    chunkSizeWarningLimit: 800,
    assetsInlineLimit: 0,
    rolldownOptions: {
      output: {
        codeSplitting: {
          groups: [
            { name: 'grid', test: /node_modules\/@mui\/x-/, priority: 1 },
            { name: 'mui', test: /node_modules\/(@mui\/(?!x-)|@emotion|@base-ui|@popperjs)/, priority: 2 },
            { name: 'react', test: /node_modules\/(react|react-dom|react-router|scheduler|@tanstack)\//, priority: 3 },
          ],
        },
      },
    },
  },
  test: { environment: 'happy-dom', testTimeout: 20_000, globals: true },
});
