/** Which messages: kept in the address bar, so that a filtered list can be sent to a colleague. */
import { EventKind, MessageState } from '../api/schema'
import type { LiveEvent, Message } from '../api/schema'

export const keys = [
  'flow',
  'partner',
  'state',
  'step',
  'key',
  'reason',
  'connection',
  'direction',
  'arrival',
  'within',
  'since',
  'until',
] as const

export type Key = (typeof keys)[number]
export type Filters = Partial<Record<Key, string>>

/** Filters of which a change does not tell enough. */
const undecided: Key[] = ['reason', 'connection', 'direction', 'arrival', 'since', 'until']

/** Whether pulses alone keep a list right: nothing that a message may come to later decides whether it is in it. */
export const pulsesSuffice = (filters: Filters) =>
  keys.every((key) => !filters[key] || ['flow', 'partner', 'within'].includes(key))

/** Whether a change is told enough to be known as one of the list. */
export function surelyFits(change: LiveEvent, filters: Filters): boolean {
  if (undecided.some((key) => filters[key])) return false
  const states = filters.state?.split(',')
  return (
    change.kind === EventKind.message &&
    (!filters.flow || change.flow === filters.flow) &&
    (!filters.partner || change.partner === filters.partner) &&
    (!filters.step || change.step === filters.step) &&
    (!filters.key || change.key === filters.key || change.result === filters.key) &&
    (!states || states.includes(change.state))
  )
}

/** A message as a change tells it. */
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
