/** What passes each connection, from the flows that use it. */
import type { ConnectionView, Overview } from '../api/schema'

export interface Traffic {
  /** Messages received from it and sent to it in the last minute. */
  minute: number
  /** The same in spans of five seconds, oldest first. */
  slots: number[]
  /** Messages that failed, retry or wait at its steps now. */
  failed: number
  retrying: number
  waiting: number
  /** 95th percentile of the slowest step's requests, in microseconds. */
  slow_us?: number
  /** Messages in its queues; absent where it has none, or their depth is not known. */
  depth?: number
}

/** Returns the traffic of a connection. */
export function trafficOf(connection: ConnectionView, { lines }: Pick<Overview, 'lines'>): Traffic {
  const own = lines.flatMap(({ intakes, steps }) =>
    steps.filter(
      (step, n) =>
        step.connection === connection.name || (n === 0 && intakes.some((one) => one.connection === connection.name)),
    ),
  )
  const sum = (of: (step: (typeof own)[number]) => number) => own.reduce((total, step) => total + of(step), 0)
  const spans = Math.max(0, ...own.map((step) => step.passed_slots.length))
  const depths = connection.queues.flatMap(({ messages }) => messages ?? [])
  const slow = own.flatMap(({ slow_us }) => slow_us ?? [])
  return {
    minute: sum((step) => step.passed_minute),
    slots: Array.from({ length: spans }, (_, n) => sum((step) => step.passed_slots[n] ?? 0)),
    failed: sum((step) => step.failed),
    retrying: sum((step) => step.retrying),
    waiting: sum((step) => step.waiting),
    slow_us: slow.length ? Math.max(...slow) : undefined,
    depth: depths.length ? depths.reduce((total, one) => total + one, 0) : undefined,
  }
}

/** How many depths of queues are kept for the line of each connection. */
const DEPTHS = 30

/** Returns the depths seen so far, with the newest at the end. */
export const withDepth = (seen: number[], depth: number | undefined): number[] =>
  depth === undefined ? seen : [...seen, depth].slice(-DEPTHS)
