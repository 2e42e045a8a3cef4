import vue from '@vitejs/plugin-vue'
import { defineConfig } from 'vite'
import vuetify from 'vite-plugin-vuetify'

const service = process.env.HERALD_URL ?? 'http://127.0.0.1:8410'

export default defineConfig({
  plugins: [vue(), vuetify({ autoImport: true })],
  build: {
    outDir: '../src/mellow_herald/service/console_files',
    emptyOutDir: true,
    chunkSizeWarningLimit: 900,
  },
  server: { proxy: { '/api': service, '/health': service } },
})
