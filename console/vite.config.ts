import { defineConfig } from 'vitest/config'
import vue from '@vitejs/plugin-vue'
import Components from 'unplugin-vue-components/vite'
import { ElementPlusResolver } from 'unplugin-vue-components/resolvers'

// Tests of parts draw them without Element Plus: what they hold is the logic.
export default defineConfig(({ mode }) => ({
  plugins: mode === 'test' ? [vue()] : [vue(), Components({ dts: false, resolvers: [ElementPlusResolver()] })],
  build: { outDir: 'dist', emptyOutDir: true, chunkSizeWarningLimit: 900, reportCompressedSize: false },
  test: { environment: 'happy-dom', include: ['src/**/*.test.ts'] },
  server: { proxy: { '/api': 'http://127.0.0.1:7800' } },
}))
