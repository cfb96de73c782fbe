/** What the chart can show over time: each measure with its unit, and how it is read off a line. */
import type { Schemas } from '@/api/client'
import { counted, duration, money } from '@/lib/format'
import { drawn } from '@/lib/scale'

type Figures = Schemas['Figures']

export interface Measure {
  name: string
  words: string
  unit: (currency: string) => string
  value: (figures: Figures) => number
  /** The figure as it is read, with its unit. */
  shown: (figures: Figures, currency: string) => string
  /** A place on the axis. */
  tick: (value: number) => string
}

export function inputOf(figures: Figures): number {
  return figures.tokens.all_input
}

function time(name: string, words: string, pick: (figures: Figures) => number | null | undefined): Measure {
  const shown = (figures: Figures) => {
    const ms = pick(figures)
    return ms === null || ms === undefined ? 'no stream' : duration(ms)
  }
  return {
    name,
    words,
    unit: () => 'seconds',
    value: (figures) => pick(figures) ?? 0,
    shown,
    tick: (value) => String(value / 1_000),
  }
}

export const MEASURES: readonly Measure[] = [
  {
    name: 'cost',
    words: 'cost',
    unit: (currency) => currency,
    value: (figures) => drawn(figures.cost),
    shown: (figures, currency) => `${money(figures.cost)} ${currency}`,
    tick: (value) => String(Number(value.toPrecision(6))),
  },
  {
    name: 'requests',
    words: 'requests',
    unit: () => 'requests',
    value: (figures) => figures.requests,
    shown: (figures) => `${counted(figures.requests)} requests`,
    tick: (value) => counted(value),
  },
  {
    name: 'input',
    words: 'input tokens',
    unit: () => 'tokens',
    value: inputOf,
    shown: (figures) => `${counted(inputOf(figures))} tokens in`,
    tick: (value) => counted(value),
  },
  {
    name: 'output',
    words: 'output tokens',
    unit: () => 'tokens',
    value: (figures) => figures.tokens.output,
    shown: (figures) => `${counted(figures.tokens.output)} tokens out`,
    tick: (value) => counted(value),
  },
  {
    name: 'failed',
    words: 'not answered',
    unit: () => 'requests',
    value: (figures) => figures.not_answered,
    shown: (figures) => `${counted(figures.not_answered)} not answered`,
    tick: (value) => counted(value),
  },
  time('typical', 'first token, p50', (figures) => figures.first_token.typical_ms),
  time('slow', 'first token, p95', (figures) => figures.first_token.slow_ms),
]
