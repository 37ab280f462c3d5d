/** Filters of messages, stored in the address so that a filtered list can be sent to a colleague. */
import { EventKind, MessageState } from '../api/schema'
import type { LiveEvent, Message } from '../api/schema'

export const keys = [
  'flow',
  'partner',
  'state',
  'step',
  'key',
  'key_prefix',
  'reason',
  'connection',
  'direction',
  'arrival',
  'within',
  'since',
  'until',
  'order',
] as const

export type Key = (typeof keys)[number]
export type Filters = Partial<Record<Key, string>>

/** Filters that cannot be decided from a change alone. */
const undecided: Key[] = ['reason', 'connection', 'direction', 'arrival', 'since', 'until']

/** True if pulses alone keep the list correct, because membership does not depend on later values of a message. */
export const pulsesSuffice = (filters: Filters) =>
  keys.every((key) => !filters[key] || ['flow', 'partner', 'within', 'order'].includes(key))

const begins = (prefix: string, ...texts: (string | null | undefined)[]) =>
  texts.some((text) => text?.startsWith(prefix))

/** True if a change has enough fields to decide that it belongs to the list. */
export function surelyFits(change: LiveEvent, filters: Filters): boolean {
  if (undecided.some((key) => filters[key])) return false
  const states = filters.state?.split(',')
  return (
    change.kind === EventKind.message &&
    (!filters.flow || change.flow === filters.flow) &&
    (!filters.partner || change.partner === filters.partner) &&
    (!filters.step || change.step === filters.step) &&
    (!filters.key || change.key === filters.key || change.result === filters.key) &&
    (!filters.key_prefix || begins(filters.key_prefix, change.key, change.result)) &&
    (!states || states.includes(change.state))
  )
}

/** Converts a change to a message. */
export const asMessage = (change: LiveEvent): Message => ({
  id: change.id ?? '',
  flow: change.flow,
  partner: change.partner,
  key: change.key,
  result: change.result,
  state: change.state as MessageState,
  step: change.step,
  tries: change.tries,
  due: change.due,
  waits_for: null,
  reason: null,
  code: null,
  says: change.says,
  arrival: '',
  release: 0,
  received: change.at,
  changed: change.at,
})
