import tailwindcss from '@tailwindcss/vite'
import vue from '@vitejs/plugin-vue'
import { defineConfig } from 'vitest/config'

export default defineConfig({
  plugins: [vue(), tailwindcss()],
  // What a browser of the last two years reads as it is; light-dark() among it.
  build: { target: 'es2022', cssTarget: 'chrome123', assetsInlineLimit: 0, chunkSizeWarningLimit: 700 },
  worker: { format: 'es' },
  // `npm run dev` beside a running `make demo`.
  server: { proxy: Object.fromEntries(['/api', '/enter'].map((path) => [path, 'http://127.0.0.1:7811'])) },
  test: { include: ['src/**/*.test.ts'], environment: 'node' },
})
