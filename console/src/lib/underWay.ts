/** Requests that are under way: what is said of them, and how each is drawn before it has ended. */
import { counted, duration, grouped, listed } from './format'
import type { StripTimes } from './strip'

export interface UnderWay {
  step: string
  offer?: string | null
  place?: number | null
  attempt?: number | null
  step_ms: number
  whole_ms: number
  output_tokens?: number | null
}

const STEPS = ['waiting for room', 'waiting for a load', 'sent', 'answering', 'planned'] as const
const STEP_WORDS: Record<string, [string, string]> = {
  'waiting for room': ['waits for room', 'wait for room'],
  'waiting for a load': ['waits for a model to load', 'wait for a model to load'],
  sent: ['waits for a first token', 'wait for a first token'],
  answering: ['is answered', 'are answered'],
  planned: ['is planned', 'are planned'],
}

/** What the page opens with. */
export function underWaySentence(requests: readonly UnderWay[], count: number): string {
  if (count === 0) return 'No requests are under way at this instance.'
  const of = STEPS.map((step) => ({ step, count: requests.filter((request) => request.step === step).length }))
  const parts = of
    .filter((one) => one.count > 0)
    .map((one) => `${grouped(one.count)} ${STEP_WORDS[one.step]?.[one.count === 1 ? 0 : 1] ?? one.step}`)
  const shown = requests.length < count ? ` of the oldest ${grouped(requests.length)}` : ''
  const oldest = requests[0]
  const since = oldest ? ` The oldest came ${duration(oldest.whole_ms)} ago.` : ''
  return `${grouped(count)} ${count === 1 ? 'request is' : 'requests are'} under way:${shown} ${listed(parts)}.${since}`
}

/** How far one is, in words. */
export function stepWords(request: UnderWay): string {
  const since = duration(request.step_ms)
  switch (request.step) {
    case 'waiting for room':
      return `waits for room for ${since}${request.place ? `, place ${request.place}` : ''}`
    case 'waiting for a load':
      return `waits for the model to load for ${since}`
    case 'sent':
      return `waits for a first token for ${since}${(request.attempt ?? 1) > 1 ? `, attempt ${request.attempt}` : ''}`
    case 'answering':
      return `answered for ${since}${request.output_tokens ? `, ~${counted(request.output_tokens)} tokens` : ''}`
    default:
      return `planned for ${since}`
  }
}

/** What is known of its strip: it has no end yet. */
export function stripSoFar(request: UnderWay): StripTimes {
  const [began, now] = [request.whole_ms - request.step_ms, request.whole_ms]
  const times = { admitted_ms: 0, whole_ms: now, end: '' }
  switch (request.step) {
    case 'waiting for room':
    case 'waiting for a load': {
      const what = request.step === 'waiting for room' ? 'room' : 'load'
      return { ...times, waits: [{ offer: request.offer ?? '', for: what, began_ms: began, ended_ms: now }] }
    }
    case 'sent':
      return { ...times, answering_ms: began }
    case 'answering':
      return { ...times, answering_ms: began, first_token_ms: began }
    default:
      return { ...times, admitted_ms: now }
  }
}
