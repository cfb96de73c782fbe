/** One thing of the catalogue while it is edited: what it was, what it is to be, and what the service says of that. */
import { computed, ref, watch, type Ref } from 'vue'
import { useApply, useCatalogue, useLook, type Wanted } from '@/api/catalogue'
import { Problem, type Schemas } from '@/api/client'
import { editsBetween, pointer, pointerOf, withoutEmpty, type Edit, type Kind, type Table } from '@/lib/edits'
import * as shelf from './shelf'

/** How long somebody pauses before what they typed is looked at. */
const PAUSE_MS = 350

/** The thing as it was and as it is to be, from the catalogue or from the shelf. */
function useThing(kind: Kind, name: string) {
  const catalogue = useCatalogue()
  const kept = shelf.taken(kind, name)
  const was = ref(kept?.was) as Ref<Table | undefined>
  const thing = ref(kept?.thing) as Ref<Table | undefined>
  const newName = ref(kept?.name ?? name)
  const revision = ref(kept?.revision ?? 0)
  type Things = Record<Kind, Record<string, Table>>
  const there = computed(() => (catalogue.data.value?.document as Things | undefined)?.[kind])
  const isMissing = computed(() => thing.value === undefined && there.value !== undefined && !there.value[name])

  /** Begins with what is in force. */
  function begin() {
    const found = there.value?.[name]
    if (!found || !catalogue.data.value) return
    was.value = JSON.parse(JSON.stringify(found)) as Table
    thing.value = JSON.parse(JSON.stringify(found)) as Table
    newName.value = name
    revision.value = catalogue.data.value.revision
  }
  watch(there, () => thing.value === undefined && begin(), { immediate: true })

  const edits = computed<Edit[]>(() => {
    if (!was.value || !thing.value) return []
    const at = pointer(kind, newName.value)
    const renamed: Edit[] = newName.value === name ? [] : [{ op: 'move', from: pointer(kind, name), path: at }]
    return [...renamed, ...editsBetween(at, was.value, withoutEmpty(thing.value) as Table)]
  })
  const draft = computed<shelf.Kept | undefined>(() =>
    edits.value.length && was.value && thing.value
      ? { name: newName.value, thing: thing.value, was: was.value, revision: revision.value }
      : undefined,
  )
  watch(
    draft,
    (now) => {
      shelf.put(kind, name, now)
    },
    { deep: true },
  )
  return { catalogue, thing, newName, revision, isMissing, edits, begin }
}

/** `follow` leads to the page of the thing under its new name. */
export function useDraft(kind: Kind, name: string, follow: (name: string) => unknown) {
  const { begin, ...held } = useThing(kind, name)
  const looking = useLook()
  const applying = useApply()
  const done = ref<{ revision: number; before: number }>()
  const isChanged = computed(() => held.edits.value.length > 0)
  const wanted = computed<Wanted>(() => ({ edits: held.edits.value, made_from: held.revision.value }))

  let timer: ReturnType<typeof setTimeout> | undefined
  watch(
    held.edits,
    (edits) => {
      clearTimeout(timer)
      looking.reset()
      applying.reset()
      if (edits.length === 0) return
      done.value = undefined
      timer = setTimeout(() => {
        looking.mutate(wanted.value)
      }, PAUSE_MS)
    },
    { deep: true, immediate: true },
  )

  const error = computed(() => applying.error.value ?? looking.error.value)
  const problems = computed(() => (error.value instanceof Problem ? error.value.problems : []))
  /** What is wrong at a place of the thing: its members and indexes. */
  function problemAt(...names: (string | number)[]): string | undefined {
    const at = pointer(kind, held.newName.value, ...names)
    return problems.value.find((one) => pointerOf(one.path, kind, held.newName.value) === at)?.message
  }

  async function apply(note: string, guard: Schemas['GuardAsk'] | null) {
    const applied = await applying.mutateAsync({ ...wanted.value, note, guard })
    const named = held.newName.value
    done.value = { revision: applied.revision, before: applied.revision - 1 }
    // What is shown next is what is in force then.
    if (named === name) held.thing.value = undefined
    else {
      shelf.put(kind, name, undefined)
      follow(named)
    }
  }

  return { ...held, wanted, isChanged, looking, applying, error, problems, problemAt, begin, apply, done }
}

export type Draft = ReturnType<typeof useDraft>
