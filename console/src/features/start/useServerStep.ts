/** The first step of the first run: an address becomes a check, and the check an upstream with its offers. */
import { computed, ref } from 'vue'
import { useAddUpstream } from '@/api/connecting'
import { useCheck } from '@/api/watchedCheck'
import { hostOf, type RemedySeen } from '@/lib/checks'

type Run = (what: string, verb: () => Promise<unknown>) => Promise<void>

export function useServerStep(run: Run, again: () => Promise<unknown>) {
  const [check, add] = [useCheck(), useAddUpstream()]
  const address = ref('')
  const key = ref('')
  const model = ref('')
  const report = computed(() => check.data.value)
  const steps = check.steps
  const isUsable = computed(() => report.value !== undefined && !steps.value.some((step) => step.state === 'failing'))
  /** The text that was typed, where a key stood in it: it goes along, since nobody gives the key back. */
  const pasted = ref<string>()
  const credential = () => (key.value.trim() === '' ? null : { value: key.value.trim() })

  const keyed = () => ({ credential: credential(), pasted: pasted.value ?? null })

  const look = () =>
    run('looking', async () => {
      const draft = { address: address.value, ...keyed() }
      const found = await check.mutateAsync({ draft })
      if (found.holds_key) {
        // From here on the field shows the address alone.
        pasted.value ??= draft.address
        address.value = found.settings.address
      }
      model.value = found.models[0]?.name ?? ''
    })

  function mend(remedy: RemedySeen) {
    const all = (report.value?.steps ?? []).flatMap((step) => step.findings).flatMap((finding) => finding.remedies)
    const then = all.find((one) => one.number != null && one.number === remedy.number)?.then
    if (then && hostOf(then.address) !== hostOf(address.value)) {
      // A server can send us anywhere; what it was given goes along only if it is typed again.
      key.value = ''
      pasted.value = undefined
    }
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
      await add.mutateAsync({ name: found.name, settings: { ...found.settings, ...keyed(), offers } })
      await again()
    })

  return { address, key, model, report, steps, isLooking: check.isPending, isUsable, look, mend, bringIn }
}
