/** Which messages: kept in the address bar, so that a filtered list can be sent to a colleague. */
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

/** Spans that `within` may name. */
export const withins: { value: string; text: string; ms: number }[] = [
  { value: '1m', text: 'the last minute', ms: 60_000 },
  { value: '15m', text: 'the last 15 minutes', ms: 900_000 },
  { value: '1h', text: 'the last hour', ms: 3_600_000 },
  { value: '1d', text: 'the last day', ms: 86_400_000 },
  { value: '7d', text: 'the last 7 days', ms: 604_800_000 },
]

/** Those that say something. */
const said = (filters: Filters): Record<string, string> =>
  Object.fromEntries(keys.flatMap((key) => (filters[key] ? [[key, filters[key]]] : [])))

/** As the API takes them: a span that ends now becomes its beginning. */
export function toQuery({ within, ...filters }: Filters, now: number): Record<string, string> {
  const span = withins.find((one) => one.value === within)
  return { ...said(filters), ...(span ? { since: new Date(now - span.ms).toISOString() } : {}) }
}

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
    change.kind === 'message' &&
    (!filters.flow || change.flow === filters.flow) &&
    (!filters.partner || change.partner === filters.partner) &&
    (!filters.step || change.step === filters.step) &&
    (!filters.key || change.key === filters.key || change.result === filters.key) &&
    (!states || states.includes(change.state))
  )
}

/** A message as a change tells it. */
export const asMessage = (change: LiveEvent): Message => ({
  id: change.id,
  flow: change.flow,
  partner: change.partner,
  key: change.key,
  result: change.result,
  state: change.state,
  step: change.step,
  tries: change.tries,
  due: change.due,
  waits_for: '',
  code: '',
  says: change.says,
  arrival: '',
  release: 0,
  received: change.at,
  changed: change.at,
})
