import { svelte } from '@sveltejs/vite-plugin-svelte';
import { defineConfig } from 'vitest/config';

export default defineConfig({
	plugins: [svelte()],
	resolve: { conditions: ['browser'] },
	test: {
		testTimeout: 150_000,
		hookTimeout: 150_000,
		environment: 'happy-dom',
		environmentOptions: { happyDOM: { url: 'http://obitus.skerry.example/issues?window=7d&app=gatekeeper&sort=failures' } },
		setupFiles: ['tests/service.ts'],
		include: ['tests/**/*.test.ts'],
		restoreMocks: true
	}
});
