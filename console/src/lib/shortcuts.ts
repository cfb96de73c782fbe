/** Every key that does something everywhere; the same table prints the help. */
import { paths } from './paths'

export interface Shortcut {
  keys: string
  words: string
  path?: string
}

export const SHORTCUTS: readonly Shortcut[] = [
  { keys: 'Ctrl K', words: 'Find a page, team, route, upstream or request' },
  { keys: '?', words: 'Show these keys' },
  { keys: 'g n', words: 'Now', path: paths.now },
  { keys: 'g r', words: 'Requests', path: paths.requests },
  { keys: 'g u', words: 'Usage', path: paths.usage },
  { keys: 'g s', words: 'Upstreams', path: paths.upstreams },
  { keys: 'g o', words: 'Routes', path: paths.routes },
  { keys: 'g t', words: 'Teams', path: paths.teams },
  { keys: 'g a', words: 'Audit', path: paths.audit },
  { keys: 'g y', words: 'You', path: paths.you },
  { keys: '↓ ↑', words: 'In a list: the next line, the one before' },
  { keys: 'Enter', words: 'In a list: open the line' },
  { keys: 'Esc', words: 'Close a dialogue' },
]
