/** A check that is watched as it runs: each step as it begins and as it ends, the report at the end. Leaving the page, or stopping it, ends it. */
import { useMutation, useQueryClient } from '@tanstack/vue-query'
import { computed, onScopeDispose, ref } from 'vue'
import { withRunning, type StepSeen } from '@/lib/checks'
import { client, done, Problem, type Schemas } from './client'
import { keys } from './keys'

const WATCHED = 'application/x-ndjson'
const STOPPED = 'The check was stopped. What it had spent by then is in the ledger.'

/** The lines of an answer that comes piece by piece. */
async function* linesOf(body: ReadableStream<Uint8Array>): AsyncGenerator<Schemas['CheckLine']> {
  const reader = body.pipeThrough(new TextDecoderStream() as ReadableWritablePair<string, Uint8Array>).getReader()
  let rest = ''
  for (let read = await reader.read(); !read.done; read = await reader.read()) {
    const lines = (rest + read.value).split('\n')
    rest = lines.pop() ?? ''
    for (const line of lines) yield JSON.parse(line) as Schemas['CheckLine']
  }
}

export function useCheck() {
  const cache = useQueryClient()
  const ended = ref<StepSeen[]>([])
  const running = ref<string>()
  let controller: AbortController | undefined

  async function watch(body: Schemas['CheckAsk'], signal: AbortSignal): Promise<Schemas['CheckReport']> {
    const headers = { accept: WATCHED }
    const stream = await done(
      client.POST('/manage/v1/upstreams/check', { body, headers, parseAs: 'stream', signal }) as Promise<{
        data?: ReadableStream<Uint8Array>
        error?: unknown
        response: Response
      }>,
    )
    for await (const line of linesOf(stream)) {
      if ('begins' in line) running.value = line.begins
      if ('ended' in line) {
        running.value = undefined
        ended.value = [...ended.value, line.ended]
      }
      if ('report' in line) return line.report
      if ('failed' in line) throw new Problem(0, 'Not kept', line.failed, undefined)
    }
    throw new Problem(0, 'Broken off', 'The connection to Wendor broke during the check.', undefined)
  }

  const mutation = useMutation({
    mutationFn: async (body: Schemas['CheckAsk']) => {
      controller?.abort()
      controller = new AbortController()
      ended.value = []
      running.value = undefined
      const { signal } = controller
      try {
        return await watch(body, signal)
      } catch (problem) {
        if (signal.aborted) throw new Problem(0, 'Stopped', STOPPED, undefined)
        throw problem
      } finally {
        running.value = undefined
      }
    },
    onSuccess: () => cache.invalidateQueries({ queryKey: keys.inventory }),
  })
  const stop = () => controller?.abort()
  onScopeDispose(stop)
  /** What is known of each step now. */
  const steps = computed(() => mutation.data.value?.steps ?? withRunning(ended.value, running.value))
  return { ...mutation, steps, stop }
}
