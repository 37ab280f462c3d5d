import { expect, test } from 'vitest'
import { fromLocal, toLocal, toQuery } from './spans'

test('a span becomes the moment it began at; what says nothing is left out', () => {
  const now = Date.parse('2026-11-23T07:00:00Z')
  expect(toQuery({ within: '1h', flow: 'orders', partner: '' }, now)).toEqual({
    flow: 'orders',
    since: '2026-11-23T06:00:00.000Z',
  })
  expect(toQuery({ within: '1h', until: '2026-11-01T00:00:00.000Z' }, now)).toEqual({
    since: '2026-11-23T06:00:00.000Z',
  })
  expect(toQuery({ within: 'between', since: '2026-11-01T00:00:00.000Z' }, now)).toEqual({
    since: '2026-11-01T00:00:00.000Z',
  })
})

test('a local time and its moment are the same to the minute, and nonsense is none', () => {
  expect(toLocal(fromLocal('2026-11-23T07:05'))).toBe('2026-11-23T07:05')
  expect([toLocal(''), toLocal('soon'), fromLocal(''), fromLocal('soon')]).toEqual(['', '', '', ''])
})
