import { readdirSync, readFileSync, statSync, writeFileSync } from 'node:fs'
import { join } from 'node:path'
import { brotliCompressSync } from 'node:zlib'
import { defineConfig } from 'vitest/config'
import type { Plugin } from 'vite'
import vue from '@vitejs/plugin-vue'
import Components from 'unplugin-vue-components/vite'
import { ElementPlusResolver } from 'unplugin-vue-components/resolvers'

// What brotli makes of each file stands beside it, so that the service packs nothing.
function brotli(): Plugin {
  return {
    name: 'brotli',
    apply: 'build',
    closeBundle() {
      for (const file of readdirSync('dist', { recursive: true, encoding: 'utf8' })) {
        const path = join('dist', file)
        if (/\.(js|css|html|svg)$/.test(path) && statSync(path).size >= 1024) writeFileSync(`${path}.br`, brotliCompressSync(readFileSync(path)))
      }
    },
  }
}

// Tests of parts draw them without Element Plus: what they hold is the logic.
export default defineConfig(({ mode }) => ({
  plugins: mode === 'test' ? [vue()] : [vue(), Components({ dts: false, resolvers: [ElementPlusResolver()] }), brotli()],
  build: { outDir: 'dist', emptyOutDir: true, chunkSizeWarningLimit: 900, reportCompressedSize: false },
  test: {
    css: true, environment: 'happy-dom', include: ['src/**/*.test.ts'] },
  server: { proxy: { '/api': 'http://127.0.0.1:7800' } },
}))
