/** Drafts that stay on this machine when their page is left. */
import type { Kind, Table } from '@/lib/edits'

/** A draft: the thing as it was and as it is to be, its new name, and the revision that it was made from. */
export interface Kept {
  name: string
  thing: Table
  was: Table
  revision: number
}

const place = (kind: Kind, name: string) => `wendor-draft:${kind}:${name}`

export function taken(kind: Kind, name: string): Kept | undefined {
  try {
    const text = localStorage.getItem(place(kind, name))
    return text === null ? undefined : (JSON.parse(text) as Kept)
  } catch {
    // A shelf that cannot be read holds no draft.
    return undefined
  }
}

export function put(kind: Kind, name: string, draft: Kept | undefined) {
  try {
    if (draft) localStorage.setItem(place(kind, name), JSON.stringify(draft))
    else localStorage.removeItem(place(kind, name))
  } catch {
    // A full shelf keeps no draft; the page itself still has it.
  }
}
