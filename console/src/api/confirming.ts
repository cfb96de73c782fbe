/** What is guarded is refused until its person has signed in again as themselves. The call waits here while they are asked, and is made
 * again; nothing of the page it came from has to know. */
import { shallowRef } from 'vue'

interface Asking {
  /** What the service said it is asked for. */
  why: string
  answer: (isConfirmed: boolean) => void
}

const CONFIRM_FIRST = 'urn:wendor:problem:confirm-first'

/** Whoever is being asked now. */
export const asking = shallowRef<Asking>()

async function refusal(response: Response): Promise<string | undefined> {
  if (response.status !== 403) return undefined
  const body: unknown = await response
    .clone()
    .json()
    .catch(() => undefined)
  if (typeof body !== 'object' || body === null || !('type' in body) || body.type !== CONFIRM_FIRST) return undefined
  return 'detail' in body && typeof body.detail === 'string' ? body.detail : ''
}

/** Sends a request, with the question in between where it is needed. */
export async function sendConfirmed(
  request: Request,
  send: (request: Request) => Promise<Response>,
): Promise<Response> {
  const again = request.clone()
  const response = await send(request)
  const why = await refusal(response)
  if (why === undefined || asking.value !== undefined) return response
  const isConfirmed = await new Promise<boolean>((answer) => (asking.value = { why, answer }))
  asking.value = undefined
  return isConfirmed ? send(again) : response
}
