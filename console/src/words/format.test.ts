import { expect, test } from 'vitest'
import { bytes, count, distance, listed, span, took } from './format'

test('durations are shown in the unit that fits', () => {
  const shown = [0, 0.84, 14.4, 999, 2400, 9960, 59_999, 61_000, 7_300_000, 200_000_000].map(span)
  expect(shown).toEqual(['0 ms', '840 µs', '14 ms', '999 ms', '2.4 s', '9 s', '59 s', '1 min', '2 h', '2 d'])
})

test('long durations are exact', () => {
  const us = [840, 9_940_000, 102_000_000, 204_000_000, 3_600_000_000, 7_500_000_000, 273_600_000_000]
  expect(us.map(took)).toEqual(['840 µs', '9.9 s', '102 s', '3 min 24 s', '60 min', '2 h 5 min', '3 d 4 h'])
})

test('distances look both ways', () => {
  expect([0, -4000, 4000, 180_000, -90_000_000].map((past) => distance(1e12 - past, 1e12))).toEqual([
    'just now',
    'in 4 s',
    '4 s ago',
    '3 min ago',
    'in 1 d',
  ])
})

test('counts, sizes and lists read as sentences', () => {
  expect([count(1, 'order'), count(0, 'order'), count(2, 'reply', 'replies')]).toEqual([
    '1 order',
    '0 orders',
    '2 replies',
  ])
  expect([1, 2048, 5_452_595].map(bytes)).toEqual(['1 byte', '2.0 KB', '5.2 MB'])
  expect([[], ['a'], ['a', 'b'], ['a', 'b', 'c']].map(listed)).toEqual(['', 'a', 'a and b', 'a, b and c'])
})
