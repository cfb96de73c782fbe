import { defineConfigWithVueTs, vueTsConfigs } from '@vue/eslint-config-typescript'
import skipFormatting from '@vue/eslint-config-prettier/skip-formatting'
import vue from 'eslint-plugin-vue'

/** Imports go one way: app -> features -> (api, ui) -> lib. */
function mayNotImport(files, patterns, message) {
  return { files, rules: { 'no-restricted-imports': ['error', { patterns: [{ group: patterns, message }] }] } }
}

const drawn = ['@headlessui/*', 'd3-*']

export default defineConfigWithVueTs(
  { ignores: ['dist/**', 'node_modules/**', 'src/api/schema.d.ts'] },
  vue.configs['flat/recommended'],
  vueTsConfigs.strict,
  skipFormatting,
  {
    rules: {
      'no-console': 'error',
      'vue/no-v-html': 'error',
      'vue/multi-word-component-names': 'error',
      'vue/block-order': ['error', { order: ['script', 'template'] }],
      'vue/define-macros-order': 'error',
      '@typescript-eslint/no-non-null-assertion': 'error',
      '@typescript-eslint/no-explicit-any': 'error',
      'max-lines': ['error', { max: 200 }],
      'max-lines-per-function': ['error', { max: 60 }],
      'no-restricted-globals': ['error', { name: 'fetch', message: 'Calls go through api/client.' }],
    },
  },
  { files: ['src/api/client.ts'], rules: { 'no-restricted-globals': 'off' } },
  mayNotImport(
    ['src/lib/**'],
    ['@/api/*', '@/ui/*', '@/features/*', '@/app/*', 'vue', 'vue-router', ...drawn],
    'lib is plain TypeScript',
  ),
  mayNotImport(['src/ui/**'], ['@/api/*', '@/features/*', '@/app/*'], 'ui knows nothing of the API'),
  mayNotImport(['src/api/**'], ['@/ui/*', '@/features/*', '@/app/*', ...drawn], 'api knows nothing of pages'),
  mayNotImport(['src/features/**'], ['@/app/*', '@/features/*', ...drawn], 'what two features need moves down'),
  mayNotImport(['src/app/**'], drawn, 'these are used in ui alone'),
)
