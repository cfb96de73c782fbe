/** An upstream as it is put together in the dialogue: what was typed, what a check found out, what is to be offered. */
import type { Schemas } from '@/api/client'

export type Draft = Schemas['UpstreamDraft']

/** Where a key is, as the dialogue asks for it. */
export type KeyPlace = 'none' | 'value' | 'env' | 'file'

export const KEY_PLACES: readonly { value: KeyPlace; words: string }[] = [
  { value: 'none', words: 'none is needed' },
  { value: 'value', words: 'typed here, kept encrypted' },
  { value: 'env', words: 'in a variable of the service' },
  { value: 'file', words: 'in a file of the service' },
]

/** Whose hardware it runs on: what is paid for by use is never asked without consent. */
export const HOSTINGS = [
  { value: 'own', words: 'our own hardware' },
  { value: 'hosted', words: 'hosted, paid for by use' },
]

/** A credential of a draft. */
export function credential(place: KeyPlace, text: string): Draft['credential'] {
  if (place === 'none' || text.trim() === '') return null
  return { [place]: text.trim() }
}

/** What an offer is to say of a model: all that its server tells. */
export function offerOf(model: Schemas['ModelLine']): Schemas['OfferDraft'] {
  return {
    model: model.name,
    context_window: model.context_window ?? null,
    output_cap: model.output_cap ?? null,
    abilities: model.abilities ?? null,
    about: model.about,
  }
}

/** What is known of a model, in a line. */
export function modelWords(model: Schemas['ModelLine']): string {
  const window = model.context_window == null ? [] : [`${model.context_window.toLocaleString('en')} tokens`]
  return [...window, ...Object.values(model.about), ...(model.abilities ?? [])].join(', ')
}
