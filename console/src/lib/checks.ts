/** A check of an upstream as its steps are drawn, and the words for what it found. */

export interface RemedySeen {
  says: string
  by: string
  number?: number | null
  needs_value: boolean
}

export interface FindingSeen {
  kind: string
  weight: string
  says: string
  remedies: readonly RemedySeen[]
}

export interface StepSeen {
  step: string
  state: string
  tried: string
  came_back: string
  took_us: number
  findings: readonly FindingSeen[]
}

const WOULD_TELL: readonly [string, string][] = [
  ['settings', 'what can be seen without a request'],
  ['name', 'the host’s addresses'],
  ['connection', 'which of them answer'],
  ['encryption', "the server's certificate"],
  ['http', 'its answer without the key'],
  ['path', 'where the API stands, in which dialect'],
  ['key', 'accepted, refused or not needed'],
  ['models', 'which are there'],
  ['streamed answer', 'first token, usage, proper end'],
  ['whole answer', 'usage, proper end'],
  ['abilities', 'tools, images in, structured output, thinking'],
]

/** The steps before anything was looked at. */
function untouched(): StepSeen[] {
  return WOULD_TELL.map(([step, came_back]) => ({
    step,
    state: 'not reached',
    tried: '',
    came_back,
    took_us: 0,
    findings: [],
  }))
}

/** Steps as far as they are over, the one that runs, and those that are still to come. */
export function withRunning(ended: readonly StepSeen[], running: string | undefined): StepSeen[] {
  return untouched().map((step) => {
    const over = ended.find((one) => one.step === step.step)
    return over ?? { ...step, state: step.step === running ? 'running' : 'to come' }
  })
}

/** What a step says; a reason that the step before has given is not repeated. */
export function stepWords(step: StepSeen, before: StepSeen | undefined): string {
  if (step.state === 'not reached') return `not reached: ${step.came_back}`
  if (step.state === 'to come') return `to come: ${step.came_back}`
  if (step.state === 'running') return `looking at ${step.came_back} ..`
  if (step.state !== 'not asked') return step.came_back
  return before?.state === 'not asked' && before.came_back === step.came_back
    ? 'not asked either'
    : `not asked: ${step.came_back}`
}

/** How it went, in a sentence. */
export function outcome(steps: readonly StepSeen[]): string {
  const failing = steps.find((step) => step.state === 'failing')
  if (failing) return `Fails at: ${failing.step}.`
  const noted = steps.filter((step) => step.state === 'noted').length
  if (noted > 0) return noted === 1 ? 'It works, with 1 note.' : `It works, with ${noted} notes.`
  return 'All steps passed.'
}

/** The host of an address as people type it. */
export function hostOf(address: string): string {
  return (
    address
      .replace(/^[a-z]+:\/\//i, '')
      .split(/[/?#]/)[0]
      ?.replace(/:\d+$/, '')
      .toLowerCase() ?? ''
  )
}
