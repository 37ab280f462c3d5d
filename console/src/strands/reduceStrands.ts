/** What the strands show: what the service last told whole, moved on by each pulse until it tells it again. */
import type { Pulse, Strand, Strands } from '../api/schema'

export type Happening = { kind: 'told'; strands: Strands } | { kind: 'pulse'; pulse: Pulse }

/** Pulses move the counts of the last minute; what stands where is told whole, as only the journal knows it exactly. */
export function reduceStrands(known: Strands | undefined, happening: Happening): Strands | undefined {
  if (happening.kind === 'told') return happening.strands
  if (!known || happening.pulse.passed.length === 0) return known
  const { passed, changes } = happening.pulse
  const done = (flow: string) => changes.filter((one) => one.flow === flow && one.state === 'done').length
  const strands = known.strands.map((strand): Strand => {
    const own = passed.filter((one) => one.flow === strand.flow)
    if (own.length === 0) return strand
    const knots = strand.knots.map((knot) => {
      const more = own.find((one) => one.step === knot.step)?.messages ?? 0
      return more ? { ...knot, passed_minute: knot.passed_minute + more } : knot
    })
    return { ...strand, knots, done_minute: strand.done_minute + done(strand.flow) }
  })
  return { ...known, strands }
}

/** Whether a pulse tells of anything that changes what stands where. */
export const moves = (pulse: Pulse) => pulse.changes.length > 0 || pulse.left_out > 0

/** Whether nothing passes and nothing stands. */
export const isQuiet = (strand: Strand) =>
  !strand.paused &&
  !strand.knots.some((knot) => knot.held) &&
  strand.done_minute === 0 &&
  strand.knots.every((knot) => knot.passed_minute + knot.moving + knot.waiting + knot.retrying + knot.aside === 0)

/** Messages of a strand that are not where they should be. */
export const stuck = (strand: Strand) =>
  strand.knots.reduce((sum, knot) => sum + knot.waiting + knot.retrying + knot.aside, 0)
