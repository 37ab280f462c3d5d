/** States of messages and verdicts of arrivals: each with a mark and a tone besides its word. */
export interface Look {
  /** A mark that reads without colour. */
  mark: string
  /** Name of its colour in the design system. */
  tone: 'running' | 'waiting' | 'retrying' | 'failed' | 'done' | 'ended'
}

const looks: Record<string, Look> = {
  running: { mark: '●', tone: 'running' },
  waiting: { mark: 'Ⅱ', tone: 'waiting' },
  retrying: { mark: '↻', tone: 'retrying' },
  failed: { mark: '▲', tone: 'failed' },
  done: { mark: '✓', tone: 'done' },
  skipped: { mark: '↷', tone: 'ended' },
  discarded: { mark: '✕', tone: 'ended' },
  received: { mark: '✓', tone: 'done' },
  splitting: { mark: '●', tone: 'running' },
  duplicate: { mark: '≡', tone: 'ended' },
  rejected: { mark: '✕', tone: 'failed' },
  resolved: { mark: '■', tone: 'ended' },
  open: { mark: '●', tone: 'running' },
  trouble: { mark: '▲', tone: 'failed' },
  ended: { mark: '✓', tone: 'done' },
  held: { mark: 'Ⅱ', tone: 'waiting' },
  free: { mark: '●', tone: 'done' },
}

export const lookOf = (state: string): Look => looks[state] ?? { mark: '○', tone: 'ended' }

export const messageStates = ['running', 'waiting', 'retrying', 'failed', 'done', 'skipped', 'discarded']
export const verdicts = ['received', 'splitting', 'duplicate', 'rejected', 'failed', 'resolved']
export const orderStates = ['open', 'trouble', 'ended']
