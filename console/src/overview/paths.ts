/** Converts a change of a message to the path of its dot. */
import { EventKind, MessageState } from '../api/schema'
import type { LiveEvent, FlowLine } from '../api/schema'

/** How the path of a dot ends. */
export type Ending = 'end' | 'step' | 'loop' | 'siding' | 'gate'

export interface Way {
  message: string
  state: string
  /** Positions of the steps, at least one; the intake is 0. */
  steps: number[]
  ending: Ending
}

const endings: Partial<Record<string, Ending>> = {
  [MessageState.done]: 'end',
  [MessageState.retrying]: 'loop',
  [MessageState.failed]: 'siding',
  [MessageState.waiting]: 'gate',
}

/** Returns the path, or `undefined` for a change that is not a message or not at a step of this flow. */
export function wayOf(change: LiveEvent, line: FlowLine): Way | undefined {
  if (change.kind !== EventKind.message || change.flow !== line.flow) return undefined
  const place = (name: string) => line.steps.findIndex((step) => step.step === name)
  const stops = [
    ...(change.began ? [''] : []),
    ...change.passed,
    ...(change.state === MessageState.done ? [] : [change.step]),
  ]
  const steps = stops.map(place).filter((step, n, all) => step >= 0 && step !== all[n - 1])
  if (steps.length === 0) return undefined
  return { message: change.id ?? '', state: change.state, steps, ending: endings[change.state] ?? 'step' }
}

/** Returns at most `most` items, evenly chosen, so that a burst still looks like a burst. */
export function sampled<T>(all: T[], most: number): T[] {
  if (all.length <= most) return all
  return Array.from({ length: most }, (_, n) => all[Math.floor((n * all.length) / most)]!)
}
