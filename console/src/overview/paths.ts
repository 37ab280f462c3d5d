/** From a change of a message to the way that its dot takes along the line. */
import { EventKind, MessageState } from '../api/schema'
import type { LiveEvent, FlowLine } from '../api/schema'

/** Where a dot goes in the end. */
export type Ending = 'end' | 'step' | 'loop' | 'siding' | 'gate'

export interface Way {
  message: string
  state: string
  /** Places of steps, the beginning is 0; at least one. */
  steps: number[]
  ending: Ending
}

const endings: Partial<Record<string, Ending>> = {
  [MessageState.done]: 'end',
  [MessageState.retrying]: 'loop',
  [MessageState.failed]: 'siding',
  [MessageState.waiting]: 'gate',
}

/** The way; nothing for what is no message, or at no step of this line. */
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

/** At most `most` of them, spread over all, so that a burst looks like one. */
export function sampled<T>(all: T[], most: number): T[] {
  if (all.length <= most) return all
  return Array.from({ length: most }, (_, n) => all[Math.floor((n * all.length) / most)]!)
}
