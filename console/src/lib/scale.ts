/** Round numbers for the end of an axis. */

/** The least of 1, 2, 3, 4, 5, 6, 8 or 10 times a power of ten that is not below `value`. */
export function niceEnd(value: number): number {
  if (value <= 0) return 1
  const power = 10 ** Math.floor(Math.log10(value))
  const factor = [1, 2, 3, 4, 5, 6, 8, 10].find((step) => step * power >= value) ?? 10
  return factor * power
}

/** An amount as a length on the screen: the one place where money becomes a fraction, since a pixel has no more digits. */
export function drawn(text: string): number {
  return Number(text)
}
