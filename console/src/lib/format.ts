/** Numbers, money and times as people read them. Amounts are text with all their digits and never become floating point. */

/** A count with a comma before each three digits. */
export function grouped(count: number | bigint | string): string {
  const [whole = '', rest] = String(count).split('.')
  const text = whole.replace(/\B(?=(\d{3})+(?!\d))/g, ',')
  return rest === undefined ? text : `${text}.${rest}`
}

/** A decimal text rounded half away from zero to so many places, digit by digit. */
export function rounded(text: string, places: number): string {
  const negative = text.startsWith('-')
  const [whole = '0', part = ''] = text.replace('-', '').split('.')
  const digits = `${whole}${part.padEnd(places + 1, '0').slice(0, places + 1)}`
  const scaled = (BigInt(digits) + 5n) / 10n
  const shown = scaled.toString().padStart(places + 1, '0')
  const at = shown.length - places
  const amount = places === 0 ? shown : `${shown.slice(0, at)}.${shown.slice(at)}`
  return negative && scaled !== 0n ? `-${amount}` : amount
}

/** An amount of money with two places, or as many as a small one needs. */
export function money(text: string, places = 2): string {
  return grouped(rounded(text, places))
}

/** The places with which all of these amounts are exact, so that a sum is seen to be one; at least four. */
export function exactPlaces(amounts: readonly string[]): number {
  return Math.max(4, ...amounts.map((amount) => amount.split('.')[1]?.length ?? 0))
}

/** The places that one request's cost needs. */
export function smallPlaces(text: string): number {
  return /^0(\.00|$)/.test(text) && !/^0(\.0*)?$/.test(text) ? 6 : 4
}

/** How an amount differs from the one before, in whole per cent. */
export function change(now: string, before: string): string {
  const scale = (text: string) => BigInt(rounded(text, 12).replace('.', ''))
  const [a, b] = [scale(now), scale(before)]
  if (b === 0n) return a === 0n ? '0%' : 'new'
  const percent = ((a - b) * 1000n) / b
  const whole = (percent + (percent < 0n ? -5n : 5n)) / 10n
  return `${whole < 0n ? '' : '+'}${whole}%`
}

/** A part of a whole in per cent with two places. */
export function share(part: number, whole: number): string {
  const basisPoints = whole === 0 ? 0 : Math.round((part * 10_000) / whole)
  return `${Math.floor(basisPoints / 100)}.${String(basisPoints % 100).padStart(2, '0')}%`
}

/** Seconds rounded to so many places, as the command line does. */
function seconds(ms: number, places: 1 | 2): string {
  const unit = places === 2 ? 10 : 100
  return (Math.round(ms / unit) / (1_000 / unit)).toFixed(places)
}

/** Seconds, as exact as someone reads them; milliseconds below a tenth. */
export function duration(ms: number): string {
  if (ms < 100) return `${ms} ms`
  if (ms < 9_995) return `${seconds(ms, 2)} s`
  if (ms < 120_000) return `${seconds(ms, 1)} s`
  return `${Math.round(ms / 60_000)} min`
}

/** A count in the unit of the largest of its kind: exact, or millions. What would be next to nothing in millions is exact. */
export function counted(count: number, largest = count): string {
  return largest < 1_000_000 || count < 10_000 ? grouped(count) : `${grouped((count / 1_000_000).toFixed(2))} M`
}

/** A typical and a slow time, in seconds. */
export function typicalSlow(times: { typical_ms?: number | null; slow_ms?: number | null } | undefined): string {
  const { typical_ms: typical, slow_ms: slow } = times ?? {}
  if (typical === null || typical === undefined) return '–'
  return `${seconds(typical, 2)}, ${seconds(slow ?? typical, 2)} s`
}

/** How long ago, in one unit. */
export function ago(ms: number): string {
  const passed = Math.max(0, Math.round(ms / 1_000))
  if (passed < 100) return `${passed} s ago`
  if (passed < 6_000) return `${Math.floor(passed / 60)} min ago`
  if (passed < 172_800) return `${Math.round(passed / 3_600)} h ago`
  return `${Math.round(passed / 86_400)} days ago`
}

/** How long ago something was of which only the hour is known. */
export function hoursAgo(ms: number): string {
  const hours = Math.floor(ms / 3_600_000)
  if (hours < 1) return 'this hour'
  return hours < 48 ? `${hours} h ago` : ago(ms)
}

const MONTHS = 'January February March April May June July August September October November December'.split(' ')
const DAYS = 'Sunday Monday Tuesday Wednesday Thursday Friday Saturday'.split(' ')

const two = (value: number) => String(value).padStart(2, '0')

/** A day in words, such as `23 November`. */
export function dayName(at: Date): string {
  return `${at.getUTCDate()} ${MONTHS[at.getUTCMonth()] ?? ''}`
}

export function monthName(at: Date): string {
  return MONTHS[at.getUTCMonth()] ?? ''
}

export function weekdayName(at: Date): string {
  return DAYS[at.getUTCDay()] ?? ''
}

/** The time of day in UTC, to the second. */
export function clock(at: Date): string {
  return `${two(at.getUTCHours())}:${two(at.getUTCMinutes())}:${two(at.getUTCSeconds())}`
}

/** An instant in UTC, to the second. */
export function instant(at: Date): string {
  return `${at.getUTCFullYear()}-${two(at.getUTCMonth() + 1)}-${two(at.getUTCDate())} ${clock(at)} UTC`
}

/** How long a step took: in milliseconds up to a second; nothing where nothing was sent. */
export function took(us: number): string {
  if (us < 100) return ''
  if (us < 10_000) return `${Math.floor(us / 1_000)}.${Math.floor((us % 1_000) / 100)} ms`
  if (us < 1_000_000) return `${Math.floor(us / 1_000)} ms`
  return `${Math.floor(us / 1_000_000)}.${two(Math.floor((us % 1_000_000) / 10_000))} s`
}

/** A size of weights, memory or bodies, as model servers tell it: by thousands. */
export function dataSize(bytes: number): string {
  if (bytes < 1_000_000) return `${Math.floor(bytes / 1_000)} KB`
  const [unit, name] = bytes < 1_000_000_000 ? [1_000_000, 'MB'] : [1_000_000_000, 'GB']
  return `${Math.floor(bytes / unit)}.${Math.floor((bytes % unit) / (unit / 10))} ${name}`
}

/** The beginning of a digest, as people compare them: without the name of the algorithm before it. */
export function digest(text: string): string {
  return text.replace(/^.*:/, '').slice(0, 12)
}

/** The text with a capital at its beginning. */
export function capital(text: string): string {
  const [first = '', ...rest] = text
  return first.toUpperCase() + rest.join('')
}

/** Several words as a list in a sentence. */
export function listed(words: readonly string[]): string {
  if (words.length < 2) return words.join('')
  return `${words.slice(0, -1).join(', ')} and ${words.at(-1) ?? ''}`
}
