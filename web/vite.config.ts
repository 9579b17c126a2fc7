import vue from '@vitejs/plugin-vue'
import { defineConfig } from 'vite'

export default defineConfig({
  plugins: [vue()],
  build: {
    outDir: '../server/dist',
    emptyOutDir: true,
    chunkSizeWarningLimit: 1500,
    // Everything is embedded in one binary: nothing is inlined past the policy.
    assetsInlineLimit: 0,
  },
  server: { proxy: { '/api': 'http://127.0.0.1:7400' } },
})
