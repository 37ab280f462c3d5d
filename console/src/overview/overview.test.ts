import { expect, test } from 'vitest'
import { ConnectionType, EventKind, MessageAct, MessageState, RepeatType, StepVerb, Verdict } from '../api/schema'
import type { Arrival, ConnectionView, FlowStep, LiveEvent, Pulse, Reason, FlowLine, Overview } from '../api/schema'
import { sampled, wayOf } from './paths'
import { isQuiet, rank, reduceOverview, stuck } from './reduceOverview'
import { concerns, glance, whose } from './concerns'

const step = (step: string, more: Partial<FlowStep> = {}): FlowStep => ({
  step,
  way: '',
  verb: StepVerb.map,
  what: '',
  connection: null,
  on_hold: null,
  median_us: null,
  slow_us: null,
  stuck_since: null,
  next_due: null,
  passed_minute: 0,
  passed_slots: [],
  running: 0,
  waiting: 0,
  retrying: 0,
  failed: 0,
  affects: [],
  ...more,
})
const line = (steps: FlowStep[] = [step(''), step('to-order'), step('book', { connection: 'erp' })]): FlowLine => ({
  flow: 'orders',
  title: 'Orders',
  intakes: [],
  paused: null,
  recorded: null,
  steps,
  done_minute: 0,
  done_slots: [0, 0],
})
const overviewOf = (more: Partial<Overview> = {}): Overview => ({
  at: '',
  lines: [line()],
  connections: [],
  reasons: [],
  arrivals_failed: [],
  warnings: [],
  assignments: [],
  ...more,
})
const change = (more: Partial<LiveEvent>): LiveEvent => ({
  at: '',
  kind: EventKind.message,
  id: '1',
  flow: 'orders',
  partner: null,
  step: '',
  state: MessageState.running,
  key: '',
  result: null,
  says: '',
  tries: 0,
  due: null,
  took_us: 0,
  tried: null,
  passed: [],
  began: false,
  ...more,
})
const pulse = (more: Partial<Pulse>): Pulse => ({ at: '', changes: [], left_out: 0, passed: [], ...more })
const held = (by: string | null = null): ConnectionView => ({
  name: 'erp',
  title: 'Order system',
  kind: ConnectionType.http,
  place: '',
  repeat: RepeatType.key,
  in_flight: 1,
  per_minute: null,
  page: null,
  webhook: null,
  auth: '',
  used_by: [],
  queues: [],
  files: [],
  notes: '',
  takes: false,
  sends: true,
  on_hold: { connection: 'erp', since: '2026-11-23T07:00:00Z', says: '503', by, next_try: null, waiting: 3 },
})
const titles = (_: string, name: string) => name.toUpperCase()

test('a pulse moves the counts of its own flow and no other', () => {
  const other = { ...line(), flow: 'other' }
  const before = overviewOf({ lines: [line(), other] })
  const after = reduceOverview(before, {
    kind: 'pulse',
    pulse: pulse({
      passed: [{ flow: 'orders', step: 'book', messages: 3 }],
      changes: [change({ state: MessageState.done })],
    }),
  })!
  expect(after.lines[0]!.steps.map((one) => one.passed_minute)).toEqual([0, 0, 3])
  expect([after.lines[0]!.done_minute, after.lines[0]!.done_slots]).toEqual([1, [0, 1]])
  expect(after.lines[1]).toBe(other)
  expect(before.lines[0]!.steps[2]!.passed_minute).toBe(0)
})

test('what the service tells whole replaces what was added up, and an empty pulse changes nothing', () => {
  const first = overviewOf()
  expect(reduceOverview(first, { kind: 'pulse', pulse: pulse({}) })).toBe(first)
  const next = overviewOf()
  expect(reduceOverview(first, { kind: 'loaded', lines: next })).toBe(next)
  expect(
    reduceOverview(undefined, { kind: 'pulse', pulse: pulse({ passed: [{ flow: 'orders', step: '', messages: 1 }] }) }),
  ).toBeUndefined()
})

test('a flow is quiet when no message passes and none waits', () => {
  expect(isQuiet(line())).toBe(true)
  expect(isQuiet(line([step('', { failed: 1 })]))).toBe(false)
  const intakes = [{ connection: 'drop', queue: null, takes: 'order' }]
  const failing = line([step('book', { failed: 1 })])
  expect([failing, { ...line(), intakes }, { ...line(), intakes: [] }].map(rank)).toEqual([0, 1, 2])
  expect(rank(line([step('book', { waiting: 3, retrying: 2 })]))).toBe(rank(line()))
  expect(stuck(line([step('', { running: 9 }), step('a', { waiting: 1, retrying: 2, failed: 3 })]))).toBe(6)
})

test('a dot goes from where it was through all it passed to where it is', () => {
  const ways = [
    change({ began: true, passed: ['to-order', 'book'], state: MessageState.done, step: 'book' }),
    change({ began: true }),
    change({ passed: ['to-order'], step: 'book', state: MessageState.retrying }),
    change({ step: 'book', state: MessageState.failed }),
    change({ passed: ['book'], step: 'book', state: MessageState.done }),
  ].map((one) => wayOf(one, line()))
  expect(ways.map((way) => `${way?.steps.join('-')} ${way?.ending}`)).toEqual([
    '0-1-2 end',
    '0 step',
    '1-2 loop',
    '2 siding',
    '2 end',
  ])
  expect(wayOf(change({ flow: 'other', began: true }), line())).toBeUndefined()
  expect(wayOf(change({ kind: EventKind.arrival }), line())).toBeUndefined()
  expect(wayOf(change({ step: 'gone', state: MessageState.failed }), line())).toBeUndefined()
})

test('a sample is spread over all', () => {
  expect(sampled([1, 2, 3], 5)).toEqual([1, 2, 3])
  expect(sampled([0, 1, 2, 3, 4, 5, 6, 7, 8, 9], 3)).toEqual([0, 3, 6])
})

test('a connection on hold says who waits and whose it is; its retries are not listed twice', () => {
  const affects = [{ partner: 'tansy', messages: 2 }]
  const lines = [line([step('book', { connection: 'erp', waiting: 3, retrying: 1, affects })])]
  const [first, ...more] = concerns(overviewOf({ lines, connections: [held()] }), titles)
  expect(more).toEqual([])
  expect(first).toMatchObject({
    says: 'Order system is on hold; 3 messages wait',
    whom: 'TANSY',
    to: '/connections#erp',
  })
  expect(concerns(overviewOf({ connections: [held('ada')] }), titles)[0]!.says).toBe(
    'Order system was put on hold by ada',
  )
})

test('a held step says what waits and why, and its flow is not quiet', () => {
  const hold = {
    flow: 'orders',
    step: 'book',
    since: '2026-11-23T07:00:00Z',
    says: '20 messages in a row',
    next_try: '',
  }
  const affects = [{ partner: 'tansy', messages: 2 }]
  const lines = [line([step('book', { affects, on_hold: { ...hold, waiting: 1 } })])]
  expect(isQuiet(lines[0]!)).toBe(false)
  expect(concerns(overviewOf({ lines }), titles)).toMatchObject([
    {
      kind: 'held',
      says: 'The step book of ORDERS is on hold; 1 message waits',
      because: '20 messages in a row',
      whom: 'TANSY',
      to: '/messages?state=waiting&flow=orders&step=book',
    },
  ])
  const nobody = [line([step('book', { on_hold: { ...hold, waiting: 0 } })])]
  expect(concerns(overviewOf({ lines: nobody }), titles)[0]!.says).toBe('The step book of ORDERS is on hold')
})

test('each reason is a concern of its own that opens those it counts', () => {
  const reason: Reason = {
    id: '0f',
    flow: 'orders',
    step: 'book',
    connection: 'erp',
    code: 'refused-422',
    says: 'unknown item',
    advice: '',
    helps: MessageAct.resend,
    messages: 1,
    first_seen: null,
  }
  const [one] = concerns(overviewOf({ reasons: [reason] }), titles)
  expect(one).toMatchObject({
    says: '1 message in ORDERS needs attention',
    because: 'unknown item',
    to: '/messages?state=failed&reason=0f',
    opens: 'Open it',
  })
})

test('a failed arrival is a concern that leads to it', () => {
  const arrival = (id: string, name: string): Arrival => ({
    id,
    name,
    connection: 'drop',
    partner: 'tansy',
    verdict: Verdict.failed,
    says: 'no interchange',
    size: 1,
    messages: 0,
    received: id,
    by: null,
    keys: [],
  })
  const [one] = concerns(overviewOf({ arrivals_failed: [arrival('2', 'a.edi')] }), titles)
  expect(one).toMatchObject({
    says: '1 arrival of the last day failed',
    because: 'a.edi: no interchange',
    to: '/arrivals/2',
    whom: 'TANSY',
  })
  const [two] = concerns(overviewOf({ arrivals_failed: [arrival('2', 'a.edi'), arrival('1', 'b.edi')] }), titles)
  expect(two).toMatchObject({
    because: 'e.g. a.edi: no interchange',
    to: '/arrivals?verdict=failed&within=1d',
    since: '1',
  })
})

test('the glance says whether somebody is needed', () => {
  const calm = overviewOf({ lines: [{ ...line(), done_minute: 12 }] })
  expect(glance(calm, [])).toBe('12 messages done in the last minute; nothing is stuck.')
  const outage = overviewOf({ connections: [held()] })
  expect(glance(outage, concerns(outage, titles))).toBe(
    'Nothing has passed in the last minute; waiting messages continue by themselves.',
  )
  const warned = overviewOf({ warnings: ['no room'] })
  expect(glance(warned, concerns(warned, titles))).toContain('1 problem needs attention')
})

test('partners are named, most hurt first, and counted when many', () => {
  const share = (partner: string, messages: number) => ({ partner, messages })
  expect(whose([share('a', 1), share('b', 5), share('a', 9), share('', 50)], titles)).toBe('A and B')
  expect(
    whose(
      ['a', 'b', 'c', 'd', 'e'].map((name, n) => share(name, 9 - n)),
      titles,
    ),
  ).toBe('A, B and 3 others')
})
