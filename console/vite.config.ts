import vue from '@vitejs/plugin-vue'
import { defineConfig } from 'vitest/config'

export default defineConfig({
  plugins: [vue()],
  server: { host: '127.0.0.1', proxy: { '/api': 'http://127.0.0.1:7300' } },
  build: { chunkSizeWarningLimit: 2500 },
  test: { environment: 'happy-dom' },
})
