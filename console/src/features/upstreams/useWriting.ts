/** What is to be written of a server that was found: its name, whose hardware it is, its offers. */
import { ref, type ComputedRef } from 'vue'
import type { Schemas } from '@/api/client'
import { useAddUpstream } from '@/api/connecting'
import { offerOf, type Draft } from './addition'

export function useWriting(
  report: ComputedRef<Schemas['CheckReport'] | undefined>,
  key: () => Pick<Draft, 'credential' | 'pasted'>,
) {
  const add = useAddUpstream()
  const name = ref('')
  const hosting = ref('own')
  const chosen = ref<string[]>([])

  /** What a check found, as a proposal; a name that was typed stays. */
  function propose(found: Schemas['CheckReport']) {
    if (name.value === '') name.value = found.name
    hosting.value = found.settings.hosting ?? 'own'
    chosen.value = found.models.map((model) => model.name)
  }

  async function write() {
    const found = report.value
    if (!found) return
    const offers = found.models.filter((model) => chosen.value.includes(model.name)).map(offerOf)
    const settings = { ...found.settings, hosting: hosting.value, ...key(), offers }
    await add.mutateAsync({ name: name.value, settings })
  }

  return { add, name, hosting, chosen, propose, write }
}
