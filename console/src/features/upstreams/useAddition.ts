/** Takes an address and a key, gives a check, its remedies, and what is to be written. */
import { computed, ref } from 'vue'
import { useAddUpstream, useCheck } from '@/api/connecting'
import { untouched, type RemedySeen, type StepSeen } from '@/lib/checks'
import { credential, offerOf, type Draft, type KeyPlace } from './addition'

export function useAddition() {
  const check = useCheck()
  const add = useAddUpstream()
  const address = ref('')
  const keyPlace = ref<KeyPlace>('none')
  const keyText = ref('')
  const name = ref('')
  const chosen = ref<string[]>([])
  /** What remedies have changed, over what was typed. */
  const mended = ref<Partial<Draft>>({})

  const report = computed(() => check.data.value)
  const steps = computed<readonly StepSeen[]>(() => report.value?.steps ?? untouched())
  const isUsable = computed(
    () => report.value !== undefined && !report.value.steps.some((step) => step.state === 'failing'),
  )

  async function look() {
    const draft: Draft = {
      ...mended.value,
      address: address.value,
      credential: credential(keyPlace.value, keyText.value),
    }
    const found = await check.mutateAsync({ draft })
    if (name.value === '') name.value = found.name
    chosen.value = found.models.map((model) => model.name)
  }

  async function apply(remedy: RemedySeen, value: string | undefined) {
    const all = (report.value?.steps ?? []).flatMap((step) => step.findings).flatMap((finding) => finding.remedies)
    const line = all.find((one) => one.number != null && one.number === remedy.number)
    const change = line?.change as { setting?: string; name?: string } | undefined
    if (line?.then) {
      const { address: to, ...rest } = line.then
      address.value = to
      mended.value = rest
    } else if (change?.setting === 'header' && change.name && value) {
      mended.value = { ...mended.value, headers: { ...mended.value.headers, [change.name]: value } }
    }
    await look()
  }

  async function write() {
    const found = report.value
    if (!found) return
    const offers = found.models.filter((model) => chosen.value.includes(model.name)).map(offerOf)
    const key = credential(keyPlace.value, keyText.value)
    await add.mutateAsync({ name: name.value, settings: { ...found.settings, credential: key, offers } })
  }

  /** Something was typed: what was found out before is about another server. */
  function retyped() {
    mended.value = {}
    check.reset()
    add.reset()
  }

  return { check, add, address, keyPlace, keyText, name, chosen, report, steps, isUsable, look, apply, write, retyped }
}
