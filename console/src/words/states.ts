/** States of messages and verdicts of arrivals: each with a mark and a tone besides its word. */
export interface Look {
  /** A mark that reads without colour. */
  mark: string
  /** Name of its colour in the design system. */
  tone: 'moving' | 'waiting' | 'retrying' | 'aside' | 'done' | 'ended'
}

const looks: Record<string, Look> = {
  moving: { mark: '●', tone: 'moving' },
  waiting: { mark: 'Ⅱ', tone: 'waiting' },
  retrying: { mark: '↻', tone: 'retrying' },
  aside: { mark: '▲', tone: 'aside' },
  done: { mark: '✓', tone: 'done' },
  skipped: { mark: '↷', tone: 'ended' },
  discarded: { mark: '✕', tone: 'ended' },
  taken: { mark: '✓', tone: 'done' },
  unfolding: { mark: '●', tone: 'moving' },
  repeat: { mark: '≡', tone: 'ended' },
  refused: { mark: '✕', tone: 'aside' },
  settled: { mark: '■', tone: 'ended' },
  open: { mark: '●', tone: 'moving' },
  trouble: { mark: '▲', tone: 'aside' },
  ended: { mark: '✓', tone: 'done' },
  held: { mark: 'Ⅱ', tone: 'waiting' },
  free: { mark: '●', tone: 'done' },
}

export const lookOf = (state: string): Look => looks[state] ?? { mark: '○', tone: 'ended' }

export const messageStates = ['moving', 'waiting', 'retrying', 'aside', 'done', 'skipped', 'discarded']
export const verdicts = ['taken', 'unfolding', 'repeat', 'refused', 'aside', 'settled']
export const orderStates = ['open', 'trouble', 'ended']
