/** The one way to the management API: typed by its OpenAPI document; what is not done comes back as a `Problem`. */
import createClient from 'openapi-fetch'
import { sendConfirmed } from './confirming'
import type { components, paths } from './schema'

export type Schemas = components['schemas']

/** Why a call was not done: what, which value, what to do. */
export class Problem extends Error {
  constructor(
    readonly status: number,
    readonly title: string,
    detail: string,
    readonly field: string | undefined,
    readonly kind = '',
    readonly problems: readonly components['schemas']['CatalogueProblem'][] = [],
  ) {
    super(detail)
  }
}

const client = createClient<paths>({
  baseUrl: '/',
  credentials: 'same-origin',
  fetch: (request) => sendConfirmed(request, fetch),
})

interface Answer<T> {
  data?: T
  error?: unknown
  response: Response
}

function isDetails(error: unknown): error is Schemas['ProblemDetails'] {
  return typeof error === 'object' && error !== null && 'detail' in error
}

/** What a call gave, or the problem that it met. */
async function done<T>(call: Promise<Answer<T>>): Promise<T> {
  let answer: Answer<T>
  try {
    answer = await call
  } catch {
    throw new Problem(
      0,
      'No answer',
      'Wendor does not answer. Is it running and reachable from this machine?',
      undefined,
    )
  }
  const { data, error, response } = answer
  if (response.ok) return data as T // A 204 has no body, and its type is then undefined.
  if (isDetails(error))
    throw new Problem(
      response.status,
      error.title,
      error.detail,
      error.field ?? undefined,
      error.type,
      error.problems ?? [],
    )
  throw new Problem(
    response.status,
    'Unexpected answer',
    `It answered ${response.status} without saying why.`,
    undefined,
  )
}

export { client, done }
