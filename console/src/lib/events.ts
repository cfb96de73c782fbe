/** Kinds of events; tries of webhooks are told to the one that is tried. */
export const KINDS = [
  { value: 'health', words: 'health of upstreams' },
  { value: 'slow', words: 'slow first tokens' },
  { value: 'spool', words: 'the spool' },
  { value: 'quota', words: 'quotas near their limit' },
  { value: 'expiry', words: 'keys that expire' },
  { value: 'models', words: 'what upstreams serve' },
  { value: 'fault', words: 'faults of Wendor itself' },
  { value: 'revision', words: 'changes that undid themselves' },
  { value: 'test', words: 'webhooks that were tried' },
] as const
