import { defineConfig } from 'vite'
import vue from '@vitejs/plugin-vue'
import Components from 'unplugin-vue-components/vite'
import { ElementPlusResolver } from 'unplugin-vue-components/resolvers'

export default defineConfig({
  plugins: [vue(), Components({ dts: false, resolvers: [ElementPlusResolver()] })],
  build: { outDir: 'dist', emptyOutDir: true, chunkSizeWarningLimit: 900, reportCompressedSize: false },
  server: { proxy: { '/api': 'http://127.0.0.1:7800' } },
})
