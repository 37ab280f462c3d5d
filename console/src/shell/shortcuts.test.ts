import { expect, test } from 'vitest'
import { pairs, shortcuts } from './shortcuts'

test('two keys lead somewhere, one does not, and a wrong first one is forgotten', () => {
  const press = pairs()
  expect(['g', 'm', 'm', 'x', 'g', 'x'].map(press)).toEqual([
    undefined,
    '/messages',
    undefined,
    undefined,
    undefined,
    '/messages?state=failed',
  ])
})

test('no two shortcuts share their keys', () => {
  expect(new Set(shortcuts.map((one) => one.keys)).size).toBe(shortcuts.length)
})
