import { expect, test } from 'vitest'
import { change } from './figures'

test('a figure is compared with that of the range before it', () => {
  expect(change(12, 12)).toBe('as in the range before')
  expect(change(12, 0)).toBe('none in the range before')
  expect(change(0, 4)).toBe('−100 % on the range before (4)')
  expect(change(15, 12)).toBe('+25 % on the range before (12)')
})
