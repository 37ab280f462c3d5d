import { expect, test } from 'vitest'
import { EventKind, MessageState } from '../api/schema'
import type { LiveEvent, Message } from '../api/schema'
import { type ColumnKey, shownColumns, sortedBy } from './columns'
import { asMessage } from './filters'

const row = (id: string, more: Partial<Message> = {}): Message => ({
  ...asMessage({ kind: EventKind.message, id, key: `MF-${id}`, says: '', flow: 'orders', step: '' } as LiveEvent),
  state: MessageState.done,
  ...more,
})
const keys = (rows: Message[], chosen?: ColumnKey[], failures = false) =>
  shownColumns(rows, chosen, failures).map((one) => one.key)

test('without a choice, columns without text are left out', () => {
  expect(keys([row('1')])).toEqual(['flow', 'received'])
  expect(keys([])).toEqual(['flow', 'received'])
  expect(keys([row('1'), row('2', { result: 'Q-7', partner: 'tansy' })])).toEqual([
    'result',
    'flow',
    'partner',
    'received',
  ])
})

test('a choice is followed, whatever is empty, in the order of the columns', () => {
  expect(keys([row('1')], ['received', 'step', 'result'])).toEqual(['result', 'step', 'received'])
  expect(keys([row('1')], [])).toEqual([])
})

test('in a list of failures, the reason comes first and the target has no column', () => {
  const failed = row('1', { state: MessageState.failed, says: 'unknown item', result: 'Q-7' })
  expect(keys([failed], undefined, true)).toEqual(['why', 'flow', 'received'])
})

test('rows are sorted by a column, numbers by value, and rows without text come last', () => {
  const rows = [row('1', { result: 'Q-10' }), row('2'), row('3', { result: 'Q-9' })]
  const sorted = (key: ColumnKey, descending: boolean) =>
    sortedBy(rows, key, descending)
      .map((one) => one.id)
      .join('')
  expect([sorted('result', false), sorted('result', true)]).toEqual(['312', '132'])
  expect(sorted('flow', true)).toBe('123')
})
