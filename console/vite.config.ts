import { readdirSync, readFileSync, writeFileSync } from 'node:fs'
import { extname, join } from 'node:path'
import { brotliCompressSync, gzipSync } from 'node:zlib'

import vue from '@vitejs/plugin-vue'
import { defineConfig, type Plugin } from 'vite'
import vuetify from 'vite-plugin-vuetify'

const service = process.env.HERALD_URL ?? 'http://127.0.0.1:8410'
const outDir = '../src/mellow_herald/service/console_files'
const packed = new Set(['.css', '.html', '.js', '.json', '.svg'])

/** Packs once what would be packed for every reader; the service gives each the form that it understands. */
function pack(): Plugin {
  return {
    name: 'pack',
    apply: 'build',
    closeBundle() {
      for (const entry of readdirSync(outDir, { recursive: true, withFileTypes: true })) {
        if (!entry.isFile() || !packed.has(extname(entry.name))) continue
        const file = join(entry.parentPath, entry.name)
        const plain = readFileSync(file)
        writeFileSync(`${file}.br`, brotliCompressSync(plain))
        writeFileSync(`${file}.gz`, gzipSync(plain, { level: 9 }))
      }
    },
  }
}

export default defineConfig({
  plugins: [vue(), vuetify({ autoImport: true }), pack()],
  build: {
    outDir,
    emptyOutDir: true,
    chunkSizeWarningLimit: 900,
  },
  server: { proxy: { '/api': service, '/health': service } },
})
