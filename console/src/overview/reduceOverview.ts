/** What the lines show: what the service last told whole, moved on by each pulse until it tells it again. */
import { MessageState } from '../api/schema'
import type { Pulse, FlowLine, Overview } from '../api/schema'

export type Happening = { kind: 'told'; lines: Overview } | { kind: 'pulse'; pulse: Pulse }

/** Pulses move the counts of the last minute; what stands where is told whole, as only the journal knows it exactly. */
export function reduceOverview(known: Overview | undefined, happening: Happening): Overview | undefined {
  if (happening.kind === 'told') return happening.lines
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
    return { ...line, steps, done_minute: line.done_minute + done(line.flow) }
  })
  return { ...known, lines }
}

/** Whether a pulse tells of anything that changes what stands where. */
export const moves = (pulse: Pulse) => pulse.changes.length > 0 || pulse.left_out > 0

/** Whether nothing passes and nothing stands. */
export const isQuiet = (line: FlowLine) =>
  !line.paused &&
  !line.steps.some((step) => step.on_hold) &&
  line.done_minute === 0 &&
  line.steps.every((step) => step.passed_minute + step.running + step.waiting + step.retrying + step.failed === 0)

/** Messages of a line that are not where they should be. */
export const stuck = (line: FlowLine) =>
  line.steps.reduce((sum, step) => sum + step.waiting + step.retrying + step.failed, 0)
