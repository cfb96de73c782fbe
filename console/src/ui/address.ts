/** The address is the state: filters, ranges and the like live in its query string, so that reload, back and a link restore them. */
import { computed, type WritableComputedRef } from 'vue'
import { useRoute, useRouter } from 'vue-router'

export function useAddress() {
  const route = useRoute()
  const router = useRouter()

  function read(name: string): string {
    const value = route.query[name]
    return typeof value === 'string' ? value : ''
  }

  /** Sets some members and leaves the others; empty ones are taken out. A page further on belongs to the list as it was. */
  function set(members: Record<string, string>): void {
    const query: Record<string, string> = {}
    for (const [name, value] of Object.entries({ ...route.query, after: '', ...members })) {
      if (typeof value === 'string' && value !== '') query[name] = value
    }
    void router.push({ path: route.path, query })
  }

  /** One member, as a value that can be bound to a field. */
  function member(name: string, otherwise = ''): WritableComputedRef<string> {
    return computed({ get: () => read(name) || otherwise, set: (value) => set({ [name]: value }) })
  }

  return { read, set, member }
}
