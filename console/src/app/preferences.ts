/** How someone likes the console: kept in this browser, applied to the page's root. */
import { ref, watchEffect } from 'vue'

export type Theme = 'system' | 'light' | 'dark'
export type Density = 'comfortable' | 'compact'

function kept<T extends string>(name: string, choices: readonly T[], otherwise: T) {
  const stored = localStorage.getItem(name)
  const value = ref(choices.find((choice) => choice === stored) ?? otherwise)
  // What is chosen is kept as it is chosen; the root only shows it.
  watchEffect(() => localStorage.setItem(name, value.value))
  return value
}

export const theme = kept<Theme>('wendor-theme', ['system', 'light', 'dark'], 'system')
export const density = kept<Density>('wendor-density', ['comfortable', 'compact'], 'comfortable')

const prefersDark = matchMedia('(prefers-color-scheme: dark)')
const systemIsDark = ref(prefersDark.matches)
prefersDark.addEventListener('change', (event) => (systemIsDark.value = event.matches))

watchEffect(() => {
  const isDark = theme.value === 'dark' || (theme.value === 'system' && systemIsDark.value)
  document.documentElement.dataset['theme'] = isDark ? 'dark' : 'light'
  document.documentElement.dataset['density'] = density.value
})
