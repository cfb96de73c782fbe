/** The first run: what is there already, and the verbs that make the rest, one after the other. */
import { computed, ref } from 'vue'
import { useRoutes, useTeams, useUpstreams } from '@/api/resources'
import { useKeyStep } from './useKeyStep'
import { useServerStep } from './useServerStep'

export function useFirstRun() {
  const [upstreams, routes, teams] = [useUpstreams(), useRoutes(), useTeams()]
  const problem = ref<Error>()
  const busy = ref<string>()

  /** Runs a verb; what it meets is shown, and only one runs at a time. */
  async function run(what: string, verb: () => Promise<unknown>) {
    busy.value = what
    problem.value = undefined
    try {
      await verb()
    } catch (met) {
      problem.value = met instanceof Error ? met : new Error(String(met))
    } finally {
      busy.value = undefined
    }
  }

  const server = useServerStep(run, () => upstreams.refetch())
  const offer = computed(() => {
    const all = (upstreams.data.value ?? []).flatMap((one) => one.offers.map((line) => `${one.name}/${line.model}`))
    return all.find((name) => name.endsWith(`/${server.model.value}`)) ?? all[0]
  })
  const route = computed(() => routes.data.value?.[0]?.name)
  const team = computed(() => teams.data.value?.[0]?.name)
  const asking = useKeyStep(run, {
    ...{ offer, route, team },
    again: () => Promise.all([routes.refetch(), teams.refetch()]),
  })
  const isKnown = computed(() => [upstreams, routes, teams].every((query) => query.data.value !== undefined))
  return { problem, busy, server, asking, offer, route, team, isKnown }
}
