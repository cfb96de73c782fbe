/** The first step of the first run: an address becomes a check, and the check an upstream with its offers. */
import { computed, ref } from 'vue'
import { useAddUpstream, useCheck } from '@/api/connecting'
import { untouched, type RemedySeen } from '@/lib/checks'

type Run = (what: string, verb: () => Promise<unknown>) => Promise<void>

export function useServerStep(run: Run, again: () => Promise<unknown>) {
  const [check, add] = [useCheck(), useAddUpstream()]
  const address = ref('')
  const key = ref('')
  const model = ref('')
  const report = computed(() => check.data.value)
  const steps = computed(() => report.value?.steps ?? untouched())
  const isUsable = computed(() => report.value !== undefined && !steps.value.some((step) => step.state === 'failing'))
  const credential = () => (key.value.trim() === '' ? null : { value: key.value.trim() })

  const look = () =>
    run('looking', async () => {
      const found = await check.mutateAsync({ draft: { address: address.value, credential: credential() } })
      model.value = found.models[0]?.name ?? ''
    })

  function mend(remedy: RemedySeen) {
    const all = (report.value?.steps ?? []).flatMap((step) => step.findings).flatMap((finding) => finding.remedies)
    const then = all.find((one) => one.number != null && one.number === remedy.number)?.then
    if (then) address.value = then.address
    return look()
  }

  const bringIn = () =>
    run('writing the upstream', async () => {
      const found = report.value
      if (!found) return
      const offers = found.models.map((one) => ({
        model: one.name,
        context_window: one.context_window ?? null,
        output_cap: one.output_cap ?? null,
        abilities: one.abilities ?? null,
        about: one.about,
      }))
      await add.mutateAsync({ name: found.name, settings: { ...found.settings, credential: credential(), offers } })
      await again()
    })

  return { address, key, model, report, steps, isUsable, look, mend, bringIn }
}
