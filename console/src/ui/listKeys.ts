/** Arrow keys in a list: from the first link of a line to that of the next. */
export function moveInList(event: KeyboardEvent): void {
  const step = { ArrowDown: 1, ArrowUp: -1 }[event.key]
  const list = event.currentTarget
  if (step === undefined || !(list instanceof HTMLElement)) return
  const lines = [...list.querySelectorAll<HTMLElement>('tbody tr')]
  const current = lines.findIndex((line) => line.contains(document.activeElement))
  const next = lines[Math.max(0, Math.min(lines.length - 1, current + step))]
  const link = next?.querySelector<HTMLElement>('a, button')
  if (link) {
    link.focus()
    event.preventDefault()
  }
}
