import type { FlowLine } from '../api/schema'
import { isQuiet } from '../overview/reduceOverview'

/** Sums over the steps of a flow, and since when the oldest message has been stuck. */
export function sums({ steps }: FlowLine) {
  const sum = (key: 'waiting' | 'retrying' | 'failed') => steps.reduce((all, step) => all + step[key], 0)
  const since = steps.flatMap((step) => step.stuck_since ?? []).sort()[0]
  return { waiting: sum('waiting'), retrying: sum('retrying'), failed: sum('failed'), since }
}

/** The state of a flow in a few words. */
export function stateOf(line: FlowLine): string {
  if (line.paused) return `paused by ${line.paused.by}`
  const held = line.steps.filter((step) => step.on_hold).length
  if (held) return held === 1 ? 'a step is on hold' : `${held} steps are on hold`
  return isQuiet(line) ? 'quiet' : 'running'
}
