import { expect, test } from 'vitest'
import { EventKind, MessageState } from '../api/schema'
import type { LiveEvent, Pulse } from '../api/schema'
import { asMessage, pulsesSuffice, surelyFits } from './filters'
import { type Listed, reduceMessages } from './reduceMessages'

const change = (id: string, more: Partial<LiveEvent> = {}): LiveEvent => ({
  at: '2026-11-23T07:00:00Z',
  kind: EventKind.message,
  id,
  flow: 'orders',
  partner: 'tansy',
  step: '',
  state: MessageState.running,
  key: `MF-${id}`,
  result: null,
  says: '',
  tries: 0,
  due: null,
  took_us: 0,
  tried: null,
  passed: [],
  began: true,
  ...more,
})
const pulse = (...changes: LiveEvent[]): Pulse => ({ at: '', changes, left_out: 0, passed: [] })
const list = (...ids: string[]): Listed => ({ rows: ids.map((id) => asMessage(change(id))), next: null })
const ids = ({ rows }: Listed) => rows.map((row) => row.id).join('')
const page = (text: string, next: string | null = null) => ({
  messages: [...text].map((id) => asMessage(change(id))),
  next,
})

test('only what a change tells is decided by it', () => {
  const one = change('1', { state: MessageState.failed, result: 'Q-7' })
  expect(
    [{}, { flow: 'orders' }, { state: 'failed,done' }, { key: 'Q-7' }].map((filters) => surelyFits(one, filters)),
  ).toEqual([true, true, true, true])
  expect(
    [{ flow: 'x' }, { partner: 'x' }, { state: 'done' }, { key: 'x' }, { reason: '1' }].map((filters) =>
      surelyFits(one, filters),
    ),
  ).toEqual([false, false, false, false, false])
})

test('pulses suffice where nothing that comes later decides', () => {
  const lists = [{}, { flow: 'orders', partner: 'tansy' }, { state: 'failed' }, { key: 'Q-7' }, { reason: '1' }]
  expect(lists.map(pulsesSuffice)).toEqual([true, true, false, false, false])
})

test('a new message comes first, a known one changes in place', () => {
  const after = reduceMessages(list('b', 'a'), {
    kind: 'pulse',
    pulse: pulse(change('c'), change('a', { state: MessageState.done, result: 'Q-1', began: false, key: '' })),
    filters: {},
  })
  expect(ids(after)).toBe('cba')
  expect(after.rows[2]).toMatchObject({ state: 'done', result: 'Q-1', key: 'MF-a' })
})

test('a pulse that says nothing of the list leaves it as it is', () => {
  const before = list('b', 'a')
  expect(reduceMessages(before, { kind: 'pulse', pulse: pulse(change('c')), filters: { flow: 'x' } })).toBe(before)
  expect(reduceMessages(before, { kind: 'pulse', pulse: pulse(change('z', { began: false })), filters: {} })).toBe(
    before,
  )
})

test('one that comes a little late finds its place', () => {
  expect(
    ids(reduceMessages(list('d', 'b'), { kind: 'pulse', pulse: pulse(change('c'), change('e')), filters: {} })),
  ).toBe('edcb')
})

test('the first page loaded again keeps what was loaded behind it', () => {
  const loaded = reduceMessages(list('d', 'c'), { kind: 'older', page: page('cba', 'a') })
  expect(ids(loaded)).toBe('dcba')
  const again = reduceMessages(loaded, { kind: 'first', page: page('fed', 'd') })
  expect([ids(again), again.next]).toEqual(['fedcba', 'a'])
  const whole = reduceMessages(again, { kind: 'first', page: page('f') })
  expect([ids(whole), whole.next]).toEqual(['f', null])
})

test('a list that grows live is cut at its end, and continues there when scrolled to', () => {
  const digits = (n: number) => String(n).padStart(5, '0')
  const full: Listed = { rows: Array.from({ length: 3000 }, (_, n) => asMessage(change(digits(3000 - n)))), next: null }
  const after = reduceMessages(full, { kind: 'pulse', pulse: pulse(change(digits(3001))), filters: {} })
  expect([after.rows.length, after.rows[0]!.id, after.rows.at(-1)!.id, after.next]).toEqual([
    3000,
    '03001',
    '00002',
    '00002',
  ])
})

test('oldest first, a new message is added behind the last page alone', () => {
  const first = (next: string | null) =>
    reduceMessages({ rows: [] }, { kind: 'first', page: page('234', next), oldest: true })
  const fresh = { kind: 'pulse', pulse: pulse(change('6'), change('5')), filters: {} } as const
  expect(ids(reduceMessages(first(null), fresh))).toBe('23456')
  expect(ids(reduceMessages(first('4'), fresh))).toBe('234')
  const more = reduceMessages(first('4'), { kind: 'older', page: page('567', '7') })
  expect([ids(more), more.oldest]).toEqual(['234567', true])
  // A reload of the first page keeps the pages behind it.
  const again = reduceMessages(more, { kind: 'first', page: page('234', '4'), oldest: true })
  expect([ids(again), again.next]).toEqual(['234567', '7'])
})
