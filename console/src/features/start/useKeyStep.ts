/** The further steps of the first run: a route, a team with its key, a question. */
import { computed, ref, type ComputedRef } from 'vue'
import { ask, type Answered } from '@/api/ask'
import { useIssueKey } from '@/api/changes'
import { useAddRoute, useAddTeam } from '@/api/connecting'

type Run = (what: string, verb: () => Promise<unknown>) => Promise<void>

interface There {
  offer: ComputedRef<string | undefined>
  route: ComputedRef<string | undefined>
  team: ComputedRef<string | undefined>
  again: () => Promise<unknown>
}

export function useKeyStep(run: Run, there: There) {
  const [addRoute, addTeam, issue] = [useAddRoute(), useAddTeam(), useIssueKey()]
  const routeName = ref('first-route')
  const teamName = ref('first-team')
  const question = ref('When does the last boat leave?')
  const answer = ref('')
  const answered = ref<Answered>()
  const key = computed(() => issue.data.value?.key)

  const makeRoute = () =>
    run('making the route', async () => {
      await addRoute.mutateAsync({ name: routeName.value, offers: [there.offer.value ?? ''] })
      await there.again()
    })

  const makeKey = () =>
    run('making team and key', async () => {
      if (!there.team.value) await addTeam.mutateAsync({ name: teamName.value })
      const team = there.team.value ?? teamName.value
      await issue.mutateAsync({ team, label: 'first run', routes: null, expires_at: null })
      await there.again()
    })

  const askIt = () =>
    run('asking', async () => {
      answer.value = ''
      answered.value = undefined
      const take = (piece: string) => (answer.value += piece)
      answered.value = await ask(there.route.value ?? '', key.value ?? '', question.value, take)
    })

  return { routeName, teamName, question, answer, answered, key, makeRoute, makeKey, askIt }
}
