/** The strip: one request as a line in time. Times enter, in milliseconds from its arrival; lanes with parts to draw leave. */
import { duration } from './format'

export interface StripTry {
  offer: string
  began_ms: number
  ended_ms: number
  answered?: boolean
  failure?: string | null
  detail?: string | null
}

/** A wait for room at an upstream that was full, or for a model that its server loaded. */
export interface StripWait {
  offer: string
  for: string
  began_ms: number
  ended_ms: number
}

export interface StripTimes {
  admitted_ms: number
  answering_ms?: number | null
  first_token_ms?: number | null
  whole_ms: number
  end: string
  waits?: readonly StripWait[]
}

export type Part = {
  id: string
  kind: 'queue' | 'wait' | 'failed' | 'left' | 'stream'
  from: number
  to: number
  note?: string
}
export type EndMark = 'proper' | 'cap' | 'cancelled' | 'cut' | undefined

export interface Lane {
  id: string
  name: string
  parts: Part[]
  end: EndMark
  endsAt: number
  note?: string
}

const ENDS: Record<string, EndMark> = {
  proper: 'proper',
  'output-cap': 'cap',
  cancelled: 'cancelled',
  abandoned: 'cancelled',
  'not-taken': 'cancelled',
  'cut-off': 'cut',
  rejected: 'proper',
}

/** Below this an admission is too short to be drawn as a queue. */
const SHORT_MS = 20

function waitedFor(wait: StripWait): string {
  return wait.for === 'load' ? 'while the model was loaded' : 'for room'
}

/** The lane of the attempt that answered, or was waited for when the app went away. */
function answer(times: StripTimes, name: string, began: number): Lane {
  const first = times.first_token_ms ?? undefined
  const parts: Part[] = [{ id: 'wait', kind: 'wait', from: began, to: first ?? times.whole_ms }]
  if (first !== undefined) {
    parts[0] = { id: 'wait', kind: 'wait', from: began, to: first, note: `first token ${duration(first - began)}` }
    parts.push({ id: 'stream', kind: 'stream', from: first, to: times.whole_ms })
  }
  return { id: 'answer', name, parts, end: ENDS[times.end], endsAt: times.whole_ms }
}

/** One lane an attempt, in order. */
export function lanesOf(times: StripTimes, tries: readonly StripTry[], offer: string): Lane[] {
  const lanes: Lane[] = []
  if (times.admitted_ms >= SHORT_MS) {
    const part: Part = { id: 'queue', kind: 'queue', from: 0, to: times.admitted_ms }
    lanes.push({ id: 'queue', name: 'admission and plan', parts: [part], end: undefined, endsAt: times.admitted_ms })
  }
  ;(times.waits ?? []).forEach((wait, index) => {
    const note = `waited ${duration(wait.ended_ms - wait.began_ms)} ${waitedFor(wait)}`
    const part: Part = { id: `room-${index}`, kind: 'queue', from: wait.began_ms, to: wait.ended_ms, note }
    lanes.push({ id: `room-${index}`, name: wait.offer, parts: [part], end: undefined, endsAt: wait.ended_ms })
  })
  const began = times.answering_ms ?? undefined
  tries.forEach((one, index) => {
    if (one.answered || (!one.failure && began === undefined)) return
    const note = one.failure ? [one.failure, one.detail].filter(Boolean).join(': ') : 'given up: another answered first'
    const kind = one.failure ? 'failed' : 'left'
    const part: Part = { id: `failed-${index}`, kind, from: one.began_ms, to: one.ended_ms, note }
    lanes.push({ id: `try-${index}`, name: one.offer, parts: [part], end: undefined, endsAt: one.ended_ms })
  })
  const last = tries.at(-1)
  if (began !== undefined) lanes.push(answer(times, offer, began))
  else if (last && !last.failure) lanes.push(answer(times, offer, last.began_ms))
  else if (tries.length === 0 && ENDS[times.end] === 'cancelled') lanes.push(answer(times, offer, times.admitted_ms))
  return lanes
}

/** What a strip says, for whoever does not see it. */
export function stripWords(times: StripTimes, tries: readonly StripTry[]): string {
  const failed = tries.filter((one) => one.failure && !one.answered).length
  const waited = (what: string) =>
    (times.waits ?? [])
      .filter((wait) => wait.for === what)
      .reduce((sum, wait) => sum + wait.ended_ms - wait.began_ms, 0)
  const words = [
    waited('room') > 0 ? `waited ${duration(waited('room'))} for room` : '',
    waited('load') > 0 ? `waited ${duration(waited('load'))} while the model was loaded` : '',
    failed > 0 ? `${failed} failed attempt${failed > 1 ? 's' : ''}` : '',
    times.first_token_ms ? `first token after ${duration(times.first_token_ms)}` : '',
    `${times.end} after ${duration(times.whole_ms)}`,
  ]
  return words.filter(Boolean).join(', ')
}
