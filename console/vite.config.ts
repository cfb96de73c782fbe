import { brotliCompressSync, constants, gzipSync } from 'node:zlib'
import { readdirSync, readFileSync, writeFileSync } from 'node:fs'
import { join } from 'node:path'
import { fileURLToPath, URL } from 'node:url'
import tailwindcss from '@tailwindcss/vite'
import vue from '@vitejs/plugin-vue'
import { defineConfig, type Plugin } from 'vite'

/** What the first page may weigh on its way, fonts included, in bytes. */
const FIRST_LOAD_LIMIT = 120 * 1024

/** Writes each text file in the encodings that browsers take, so that the service never compresses. */
function compressed(): Plugin {
  return {
    name: 'compressed',
    apply: 'build',
    closeBundle() {
      const dist = fileURLToPath(new URL('./dist', import.meta.url))
      for (const entry of readdirSync(dist, { recursive: true, withFileTypes: true })) {
        if (!entry.isFile() || !/\.(js|css|html|svg)$/.test(entry.name)) continue
        const path = join(entry.parentPath, entry.name)
        const content = readFileSync(path)
        const quality = { params: { [constants.BROTLI_PARAM_QUALITY]: constants.BROTLI_MAX_QUALITY } }
        writeFileSync(`${path}.br`, brotliCompressSync(content, quality))
        writeFileSync(`${path}.gz`, gzipSync(content, { level: 9 }))
      }
      weigh(dist)
    },
  }
}

/** Sums what the page loads before anyone does anything: itself, its scripts, styles and fonts. */
function weigh(dist: string): void {
  const page = readFileSync(join(dist, 'index.html'), 'utf8')
  const linked = [...page.matchAll(/(?:src|href)="\/console\/([^"]+)"/g)].map((match) => match[1] ?? '')
  const fonts = readdirSync(join(dist, 'assets')).filter((name) => name.endsWith('.woff2'))
  const parts = ['index.html', ...linked, ...fonts.map((name) => `assets/${name}`)]
  const weights = parts.map((part) => readFileSync(join(dist, part.endsWith('.woff2') ? part : `${part}.br`)).length)
  const sum = weights.reduce((all, weight) => all + weight, 0)
  process.stdout.write(
    `first load: ${(sum / 1024).toFixed(1)} KB compressed, fonts included (at most ${FIRST_LOAD_LIMIT / 1024})\n`,
  )
  if (sum > FIRST_LOAD_LIMIT) throw new Error('the first load is too heavy')
}

export default defineConfig({
  base: '/console/',
  plugins: [vue(), tailwindcss(), compressed()],
  resolve: { alias: { '@': fileURLToPath(new URL('./src', import.meta.url)) } },
  build: { assetsInlineLimit: 0, modulePreload: { polyfill: false }, reportCompressedSize: false },
  server: { proxy: { '/manage': 'http://127.0.0.1:7420' } },
})
