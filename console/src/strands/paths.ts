/** From a change of a message to the way that its dot takes along the strand. */
import type { LiveEvent, Strand } from '../api/schema'

/** Where a dot goes in the end. */
export type Ending = 'end' | 'knot' | 'loop' | 'siding' | 'gate'

export interface Way {
  message: string
  state: string
  /** Places of knots, the beginning is 0; at least one. */
  knots: number[]
  ending: Ending
}

const endings: Record<string, Ending> = { done: 'end', retrying: 'loop', aside: 'siding', waiting: 'gate' }

/** The way; nothing for what is no message, or at no knot of this strand. */
export function wayOf(change: LiveEvent, strand: Strand): Way | undefined {
  if (change.kind !== 'message' || change.flow !== strand.flow) return undefined
  const place = (step: string) => strand.knots.findIndex((knot) => knot.step === step)
  const stops = [...(change.began ? [''] : []), ...change.passed, ...(change.state === 'done' ? [] : [change.step])]
  const knots = stops.map(place).filter((knot, n, all) => knot >= 0 && knot !== all[n - 1])
  if (knots.length === 0) return undefined
  return { message: change.id, state: change.state, knots, ending: endings[change.state] ?? 'knot' }
}

/** At most `most` of them, spread over all, so that a burst looks like one. */
export function sampled<T>(all: T[], most: number): T[] {
  if (all.length <= most) return all
  return Array.from({ length: most }, (_, n) => all[Math.floor((n * all.length) / most)]!)
}
