/** The catalogue as one document, the changes of it, and its revisions. */
import { useMutation, useQuery, useQueryClient } from '@tanstack/vue-query'
import { computed, toValue, type MaybeRefOrGetter } from 'vue'
import { client, done, type Schemas } from './client'
import { keys } from './keys'

/** What is wanted: changes of single places, or a revision of before. */
export type Wanted = Pick<Schemas['CatalogueApplication'], 'edits' | 'revision' | 'made_from'>

/** A question on which a preset is tried. */
type PresetQuestion = Partial<Schemas['PresetTrialAsk']> & Pick<Schemas['PresetTrialAsk'], 'question'>

const current = () => done(client.GET('/manage/v1/revisions/{number}', { params: { path: { number: 'current' } } }))

/** The catalogue in force, read anew whenever somebody begins to edit. */
export function useCatalogue() {
  return useQuery({ queryKey: keys.catalogue, queryFn: current, staleTime: 0, refetchOnWindowFocus: false })
}

export function useLook() {
  return useMutation({
    mutationFn: (body: Wanted & { effect?: boolean }) => done(client.POST('/manage/v1/catalogue/difference', { body })),
  })
}

/** Makes a change; everything that is shown of the catalogue is asked anew. */
export function useApply() {
  const cache = useQueryClient()
  return useMutation({
    mutationFn: (body: Schemas['CatalogueApplication']) => done(client.POST('/manage/v1/catalogue', { body })),
    onSuccess: () => cache.invalidateQueries(),
  })
}

export function useRevisions() {
  return useQuery({ queryKey: keys.revisions, queryFn: () => done(client.GET('/manage/v1/revisions')) })
}

/** What changed from one revision to another. */
export function useComparison(numbers: MaybeRefOrGetter<{ from: number; to: number } | undefined>) {
  return useQuery({
    queryKey: computed(() => keys.comparison(toValue(numbers) ?? {})),
    queryFn: () => {
      const { from, to } = toValue(numbers) ?? { from: 0, to: 0 }
      const params = { path: { number: to }, query: { with: from } }
      return done(client.GET('/manage/v1/revisions/{number}/difference', { params }))
    },
    enabled: () => toValue(numbers) !== undefined,
  })
}

/** Asks an offer of a route one question with its preset, as it is or as a draft would make it. */
export function usePresetTrial() {
  return useMutation({
    mutationFn: ({ name, body }: { name: string; body: PresetQuestion }) =>
      done(
        client.POST('/manage/v1/routes/{name}/preset/trial', {
          params: { path: { name } },
          body: { ...body, variables: body.variables ?? {} },
        }),
      ),
  })
}

/** The revisions in which the preset of a route changed. */
export function usePresetVersions(route: MaybeRefOrGetter<string>) {
  return useQuery({
    queryKey: computed(() => keys.presetVersions(toValue(route))),
    queryFn: () =>
      done(client.GET('/manage/v1/routes/{name}/preset/versions', { params: { path: { name: toValue(route) } } })),
  })
}

/** Who asked for a route in the last 30 days, under which of its names. */
export function useCallers(route: MaybeRefOrGetter<string>, enabled: MaybeRefOrGetter<boolean>) {
  return useQuery({
    queryKey: computed(() => keys.callers(toValue(route))),
    queryFn: () => done(client.GET('/manage/v1/routes/{name}/callers', { params: { path: { name: toValue(route) } } })),
    enabled: () => toValue(enabled),
  })
}

/** Who would notice if a thing went. */
export function useUses(thing: MaybeRefOrGetter<string>) {
  return useQuery({
    queryKey: computed(() => keys.uses(toValue(thing))),
    queryFn: () => done(client.GET('/manage/v1/catalogue/uses', { params: { query: { of: toValue(thing) } } })),
  })
}
