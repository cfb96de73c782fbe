/** What nobody caught: shown in the shell, so that nothing fails in silence. */
import { ref } from 'vue'

export const fault = ref<string>()

export function report(error: unknown): void {
  fault.value = error instanceof Error ? error.message : String(error)
}
