/** Takes an address and a key, gives a check and its remedies; `useWriting` takes what it found and what is to be offered of it. */
import { computed, ref } from 'vue'
import { useCheck } from '@/api/connecting'
import { hostOf, untouched, type RemedySeen, type StepSeen } from '@/lib/checks'
import { credential, type Draft, type KeyPlace } from './addition'
import { useWriting } from './useWriting'

export function useAddition() {
  const check = useCheck()
  const address = ref('')
  const keyPlace = ref<KeyPlace>('none')
  const keyText = ref('')
  /** What remedies have changed, over what was typed. */
  const mended = ref<Partial<Draft>>({})
  const report = computed(() => check.data.value)
  const steps = computed<readonly StepSeen[]>(() => report.value?.steps ?? untouched())
  const isUsable = computed(
    () => report.value !== undefined && !report.value.steps.some((step) => step.state === 'failing'),
  )
  const key = () => credential(keyPlace.value, keyText.value)
  const writing = useWriting(report, key)

  async function look() {
    const found = await check.mutateAsync({ draft: { ...mended.value, address: address.value, credential: key() } })
    writing.propose(found)
  }

  async function apply(remedy: RemedySeen, value: string | undefined) {
    const all = (report.value?.steps ?? []).flatMap((step) => step.findings).flatMap((finding) => finding.remedies)
    const line = all.find((one) => one.number != null && one.number === remedy.number)
    const change = line?.change as { setting?: string; name?: string } | undefined
    if (line?.then) {
      const { address: to, ...rest } = line.then
      if (hostOf(to) !== hostOf(address.value)) {
        // A server can send us anywhere; what it was given goes along only if it is typed again.
        keyPlace.value = 'none'
        keyText.value = ''
      }
      address.value = to
      mended.value = rest
    } else if (change?.setting === 'header' && change.name && value) {
      mended.value = { ...mended.value, headers: { ...mended.value.headers, [change.name]: value } }
    }
    await look()
  }

  /** Something was typed: what was found out before is about another server. */
  function retyped() {
    mended.value = {}
    check.reset()
    writing.add.reset()
  }

  return { check, address, keyPlace, keyText, report, steps, isUsable, look, apply, retyped, ...writing }
}
