/** The audit in words: what was done, and what of it changed. */
import { instant } from '@/lib/format'

const DONE: Record<string, string> = {
  'revision-made': 'changed the catalogue',
  'catalogue-exported': 'read the catalogue',
  'key-issued': 'issued a key',
  'key-revoked': 'revoked a key',
  'person-added': 'added a person',
  'person-changed': 'changed a person',
  'person-reset': 'reset a person',
  'person-signed-out': 'signed a person out',
  'one-time-issued': 'made a one-time sign-in',
  'signed-in': 'signed in',
  'sign-in-refused': 'was refused at the sign-in',
  confirmed: 'signed in again',
  'signed-out': 'signed out',
  'password-set': 'set a password',
  'codes-set-up': 'set up an authenticator app',
  'codes-removed': 'took an authenticator app away',
  'codes-required': 'said who must have codes',
  'token-issued': 'issued a token',
  'token-ended': 'ended a token',
  'credential-kept': 'gave a credential',
  'credentials-moved': 'moved to another secret',
  'credentials-erased': 'erased credentials',
  'upstream-checked': 'checked an upstream',
  'rates-adjusted': 'corrected what was priced',
  'preset-tried': 'tried a preset',
  'inventory-refreshed': 'looked what is served',
  'spool-retried': 'tried the spool again',
  'ledger-exported': 'took the ledger away',
  'audit-exported': 'took the audit away',
}

export function doneWords(action: string): string {
  return DONE[action] ?? action.replaceAll('-', ' ')
}

function isRecord(value: unknown): value is Record<string, unknown> {
  return typeof value === 'object' && value !== null && !Array.isArray(value)
}

function short(value: unknown): string {
  if (value === null || value === undefined) return 'none'
  if (typeof value === 'string') return /^\d{4}-\d\d-\d\dT[\d:.]+Z$/.test(value) ? instant(new Date(value)) : value
  if (Array.isArray(value)) return listedThings(value)
  return JSON.stringify(value)
}

/** Changed things of a revision that a line names. */
const THINGS = 6

function listedThings(values: readonly unknown[]): string {
  const shown = values.slice(0, THINGS).map(thing).join('; ')
  return values.length > THINGS ? `${shown} and ${values.length - THINGS} more` : shown
}

/** A changed thing of the catalogue with its fields, or any other value. */
function thing(value: unknown): string {
  if (!isRecord(value) || typeof value['thing'] !== 'string') return short(value)
  const fields = Array.isArray(value['fields']) ? value['fields'].filter(isRecord) : []
  const changed = fields.map((field) => `${short(field['field'])} ${short(field['before'])} → ${short(field['after'])}`)
  const detail =
    value['kind'] === 'changed' && changed.length > 0 ? `: ${changed.join(', ')}` : ` ${short(value['kind'])}`
  return `${value['thing']}${detail}`
}

const NAMES: Record<string, string> = { expires_at: 'until', usable_until: 'usable until' }

function named(field: string): string {
  return NAMES[field] ?? field.replaceAll('_', ' ')
}

export interface FieldChanged {
  field: string
  words: string
}

/** What changed, field by field; of what was there before, both values. */
export function changed(before: unknown, after: unknown): FieldChanged[] {
  const [was, is] = [isRecord(before) ? before : {}, isRecord(after) ? after : {}]
  const names = [...Object.keys(is), ...Object.keys(was).filter((name) => !(name in is))]
  return names.flatMap((field) => {
    const [old, now] = [was[field], is[field]]
    if ((old ?? null) === null && ((now ?? null) === null || now === '')) return []
    if (JSON.stringify(old) === JSON.stringify(now)) return []
    if (old === undefined) return now === false ? [] : [{ field: named(field), words: short(now) }]
    return [{ field: named(field), words: field in is ? `${short(old)} → ${short(now)}` : `was ${short(old)}` }]
  })
}
