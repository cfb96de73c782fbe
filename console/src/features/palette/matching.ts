/** What a few typed letters mean. */

/** Items whose words hold the letters in their order; the ones that begin so stand first, then the ones that hold them together. */
export function found<T extends { words: string }>(items: readonly T[], typed: string): T[] {
  const wanted = typed.trim().toLowerCase()
  const rank = (item: T) => {
    const words = item.words.toLowerCase()
    if (words.startsWith(wanted)) return 0
    if (words.includes(wanted)) return 1
    let at = -1
    for (const letter of wanted) {
      at = words.indexOf(letter, at + 1)
      if (at < 0) return undefined
    }
    return 2
  }
  const ranked = items.map((item) => ({ item, rank: rank(item) })).filter(({ rank }) => rank !== undefined)
  return ranked.sort((a, b) => (a.rank ?? 0) - (b.rank ?? 0)).map(({ item }) => item)
}

/** The request's id that was typed, or the UUID that an upstream knows one of its attempts by, if it has the form of one. */
export function requestOf(typed: string): string | undefined {
  const text = typed.trim().toUpperCase()
  if (/^[0-9A-F]{8}(-[0-9A-F]{4}){3}-[0-9A-F]{12}$/.test(text)) return text.toLowerCase()
  return /^[0-9A-Z]{6}-[0-9A-Z]{8,14}$/.test(text) ? text : undefined
}
