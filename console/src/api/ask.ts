/** A question to a route, as an app asks it: with a key, streamed. The one call to the data plane that the console makes. */
import { Problem } from './client'

export interface Answered {
  /** The request's id. */
  id: string
  /** Milliseconds to the first token. */
  firstMs: number
  /** Milliseconds in all. */
  wholeMs: number
}

interface Frame {
  error?: { message: string }
  choices?: { delta?: { content?: string | null } }[]
}

/** Asks, and hands over each piece of the answer as it comes. */
export async function ask(
  route: string,
  key: string,
  question: string,
  take: (piece: string) => void,
): Promise<Answered> {
  const began = performance.now()
  const body = JSON.stringify({ model: route, stream: true, messages: [{ role: 'user', content: question }] })
  const headers = { Authorization: `Bearer ${key}`, 'Content-Type': 'application/json' }
  // eslint-disable-next-line no-restricted-globals -- the data plane is asked as an app asks it, not through the management API
  const response = await fetch('/v1/chat/completions', { method: 'POST', headers, body })
  if (!response.ok || !response.body) {
    const told = (await response.json().catch(() => ({}))) as Frame
    throw new Problem(response.status, 'No answer', told.error?.message ?? `It answered ${response.status}.`, undefined)
  }
  let firstMs: number | undefined
  for await (const event of events(response.body)) {
    const frame = JSON.parse(event) as Frame
    if (frame.error) throw new Problem(502, 'The answer broke off', frame.error.message, undefined)
    for (const choice of frame.choices ?? []) {
      const piece = choice.delta?.content
      if (!piece) continue
      firstMs ??= performance.now() - began
      take(piece)
    }
  }
  const wholeMs = performance.now() - began
  const id = response.headers.get('wendor-request-id') ?? ''
  return { id, firstMs: Math.round(firstMs ?? wholeMs), wholeMs: Math.round(wholeMs) }
}

/** The data of each event of a stream, without its terminator. */
async function* events(body: ReadableStream<Uint8Array>): AsyncGenerator<string> {
  const reader = body.getReader()
  const decoder = new TextDecoder()
  let rest = ''
  for (;;) {
    const { value, done } = await reader.read()
    if (done) return
    rest += decoder.decode(value, { stream: true })
    const lines = rest.split('\n')
    rest = lines.pop() ?? ''
    for (const line of lines) {
      const data = line.startsWith('data: ') ? line.slice(6).trim() : ''
      if (data !== '' && data !== '[DONE]') yield data
    }
  }
}
