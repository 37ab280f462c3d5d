import { expect, test } from 'vitest'
import { change } from './figures'

test('a figure is compared with that of the range before it', () => {
  expect(change(12, 12)).toBe('12 before')
  expect(change(0, 0)).toBe('none before')
  expect(change(12, 0)).toBe('none before')
  expect(change(0, 4)).toBe('4 before, −100 %')
  expect(change(15, 12)).toBe('12 before, +25 %')
})
