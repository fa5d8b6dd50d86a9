import tailwindcss from '@tailwindcss/vite'
import react from '@vitejs/plugin-react'
import { defineConfig } from 'vite'

export default defineConfig({
  plugins: [react(), tailwindcss()],
  build: {
    // Nothing is inlined: the page's policy allows fonts and scripts from files alone.
    assetsInlineLimit: 0,
    emptyOutDir: true,
    target: 'es2023',
    // Browsers that know light-dark(), which the theme is made of.
    cssTarget: ['chrome123', 'firefox120', 'safari17.5'],
  },
})
