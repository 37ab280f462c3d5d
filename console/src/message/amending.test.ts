import { expect, test } from 'vitest'
import { changedLines, placeOf } from './amending'

const order = 'BEG*00*SA*MF-1~\nPO1*1*12*EA*64.50**VP*QH-HIVE-12~\nPO1*2*12*EA*3**VP*QH-HIVE-1~'

test('a refused value is found where it is whole', () => {
  expect(placeOf(order, ['QH-HIVE-1'])).toEqual({ line: 3, from: 18, to: 27 })
  expect(placeOf(order, ['none', 'QH-HIVE-12'])).toEqual({ line: 2, from: 22, to: 32 })
  expect(placeOf(order, ['HIVE-1x', ''])).toBeUndefined()
  expect(placeOf(order, [])).toBeUndefined()
})

test('changed lines are those between the equal ones', () => {
  expect(changedLines('a\nb\nc', 'a\nx\nc')).toEqual({ before: ['b'], after: ['x'] })
  expect(changedLines('a\nb\nc', 'a\nc')).toEqual({ before: ['b'], after: [] })
  expect(changedLines('a', 'a\na')).toEqual({ before: [], after: ['a'] })
  expect(changedLines('a\nb', 'a\nb')).toEqual({ before: [], after: [] })
})
