/** Takes an address and a key, gives a check and its remedies; `useWriting` takes what it found and what is to be offered of it. */
import { computed, ref } from 'vue'
import { useCheck } from '@/api/watchedCheck'
import { hostOf, type RemedySeen } from '@/lib/checks'
import { credential, type Draft, type KeyPlace } from './addition'
import { useWriting } from './useWriting'

export function useAddition() {
  const check = useCheck()
  const address = ref('')
  const keyPlace = ref<KeyPlace>('none')
  const keyText = ref('')
  /** The text that was typed, where a key stood in it: it goes along, since nobody gives the key back. */
  const pasted = ref<string>()
  /** What remedies have changed, over what was typed. */
  const mended = ref<Partial<Draft>>({})
  const report = computed(() => check.data.value)
  const isUsable = computed(
    () => report.value !== undefined && !report.value.steps.some((step) => step.state === 'failing'),
  )
  const key = () => credential(keyPlace.value, keyText.value)
  const writing = useWriting(report, () => ({ credential: key() ?? null, pasted: pasted.value ?? null }))

  async function look() {
    const draft = { ...mended.value, address: address.value, credential: key(), pasted: pasted.value ?? null }
    const found = await check.mutateAsync({ draft })
    if (found.holds_key) {
      // From here on the field shows the address alone.
      pasted.value ??= draft.address
      address.value = found.settings.address
    }
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
        pasted.value = undefined
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
    pasted.value = undefined
    check.reset()
    writing.add.reset()
  }

  return { check, address, keyPlace, keyText, report, steps: check.steps, isUsable, look, apply, retyped, ...writing }
}
