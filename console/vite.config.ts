import vue from '@vitejs/plugin-vue'
import { defineConfig } from 'vitest/config'

// The service answers only requests that name its own address.
const service = 'http://127.0.0.1:7300'

export default defineConfig({
  plugins: [vue()],
  server: { host: '127.0.0.1', proxy: { '/api': { target: service, changeOrigin: true, headers: { origin: service } } } },
  build: { chunkSizeWarningLimit: 2500 },
  test: { environment: 'happy-dom' },
})
