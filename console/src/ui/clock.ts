/** The time of the page, shared: it ticks once a second while anyone looks. */
import { onScopeDispose, readonly, ref, type Ref } from 'vue'

const now = ref(Date.now())
let watchers = 0
let timer: ReturnType<typeof setInterval> | undefined

export function useClock(): Readonly<Ref<number>> {
  now.value = Date.now()
  watchers += 1
  timer ??= setInterval(() => (now.value = Date.now()), 1_000)
  onScopeDispose(() => {
    watchers -= 1
    if (watchers === 0) {
      clearInterval(timer)
      timer = undefined
    }
  })
  return readonly(now)
}
