/** State of the flow lines: the last full overview from the service, updated by each pulse. */
import { MessageState } from '../api/schema'
import type { Pulse, FlowLine, Overview } from '../api/schema'

export type Happening = { kind: 'loaded'; lines: Overview } | { kind: 'pulse'; pulse: Pulse }

/** Adds a pulse to the counts of the last minute. The messages at each step come only with a full overview, because only the database has exact counts. */
export function reduceOverview(known: Overview | undefined, happening: Happening): Overview | undefined {
  if (happening.kind === 'loaded') return happening.lines
  if (!known || happening.pulse.passed.length === 0) return known
  const { passed, changes } = happening.pulse
  const done = (flow: string) => changes.filter((one) => one.flow === flow && one.state === MessageState.done).length
  const lines = known.lines.map((line): FlowLine => {
    const own = passed.filter((one) => one.flow === line.flow)
    if (own.length === 0) return line
    const steps = line.steps.map((step) => {
      const more = own.find((one) => one.step === step.step)?.messages ?? 0
      return more ? { ...step, passed_minute: step.passed_minute + more } : step
    })
    const more = done(line.flow)
    const done_slots = line.done_slots.map((slot, n) => (n === line.done_slots.length - 1 ? slot + more : slot))
    return { ...line, steps, done_minute: line.done_minute + more, done_slots }
  })
  return { ...known, lines }
}

/** True if a pulse changes how many messages are at a step. */
export const moves = (pulse: Pulse) => pulse.changes.length > 0 || pulse.left_out > 0

/** True if a flow has no messages and no traffic. */
export const isQuiet = (line: FlowLine) =>
  !line.paused &&
  !line.steps.some((step) => step.on_hold) &&
  line.done_minute === 0 &&
  line.steps.every((step) => step.passed_minute + step.running + step.waiting + step.retrying + step.failed === 0)

/** Returns the step with the slowest requests in the last minute: their 95th percentile. */
export function slowest(line: FlowLine): { step: string; us: number } | undefined {
  const timed = line.steps.flatMap(({ step, slow_us: us }) => (us ? [{ step, us }] : []))
  return timed.sort((a, b) => b.us - a.us)[0]
}

/** Number of messages of a flow that need attention or retry. */
export const stuck = (line: FlowLine) =>
  line.steps.reduce((sum, step) => sum + step.waiting + step.retrying + step.failed, 0)

/** Place of a flow on the page: with failed messages, on hold or paused; then with an intake; then the others. */
export const rank = (line: FlowLine) =>
  line.paused || line.steps.some((step) => step.failed || step.on_hold) ? 0 : line.intakes.length ? 1 : 2
